import type { ModelView as View } from "../../api/client";
import { useDriftModels } from "../../api/drift";
import { Distribution, DistributionKey } from "../../chart/Distribution";
import { Mark } from "../../parts/Mark";
import { Reading, Section, Trouble } from "../../parts/Page";
import { number, percent, signed } from "../../parts/words";
import { Calibration } from "./Calibration";
import { OverPeriods, type Point } from "./OverPeriods";
import { days } from "./says";

type Version = NonNullable<View["versions"]>[number];

/**
 * A model's versions: scores, missing inputs, and quality where outcomes are known, over the periods and
 * in the one that is framed.
 */
export function ModelView({
  name,
  at,
  from,
  setAt,
}: {
  name: string;
  at: string;
  from: string | undefined;
  setAt: (from: string) => void;
}) {
  const found = useDriftModels(name, at, from);
  const m = found.data;
  if (!m)
    return found.error ? <Trouble what="The model" error={found.error} /> : <Reading what="the model" />;
  if (m.score === "")
    return (
      <p className="mt-4 text-ink2">
        No model is named: say which column holds its score, and its version, with{" "}
        <code>tinbell drift set … --score … --version …</code>.
      </p>
    );
  const versions = m.versions,
    period = days(m.from, m.to, m.zone);
  const charts: [
    string,
    string,
    (v: NonNullable<NonNullable<View["periods"]>[number]["models"]>[number]) => Point | null,
  ][] = [
    [
      "ranking (AUC)",
      "1 ranks perfectly, 0.5 not at all",
      (v) => (v.quality ? { at: v.quality.auc, low: v.quality.auc_low, high: v.quality.auc_high } : null),
    ],
    [
      "came true over said",
      "1 says it well",
      (v) =>
        v.quality ? { at: v.quality.ratio, low: v.quality.ratio_low, high: v.quality.ratio_high } : null,
    ],
    [
      "mean score",
      "",
      (v) => (v.classes || !v.scores || v.scores.period.rows === 0 ? null : { at: v.scores.period.mean }),
    ],
    ["lacking an input", "share of rows", (v) => ({ at: v.missing_input })],
  ];
  return (
    <>
      <Section
        className="mt-4"
        title="Over time"
        note="each version; bars are 95 % intervals; the frame is the period below"
      >
        <div className="mt-1 grid grid-cols-2 gap-x-8 gap-y-3 max-md:grid-cols-1">
          {charts.map(([title, note, read]) => (
            <OverPeriods
              key={title}
              title={title}
              note={note}
              periods={m.periods}
              zone={m.zone}
              framed={m.from}
              setFramed={setAt}
              read={read}
              share={title === "lacking an input"}
            />
          ))}
        </div>
      </Section>
      <Versions versions={versions} period={period} threshold={m.threshold} />
      {versions.map((v) => (
        <div
          key={v.version}
          className="mt-6 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-10"
        >
          <Section
            title={`Scores of ${v.version || "the model"}`}
            note={`% of rows, over ${v.same ? "the same version" : "all versions"} in the reference`}
          >
            <DistributionKey
              labels={{ reference: "reference", period: `${period}, ${number(v.rows)} rows` }}
            />
            {v.bars.length > 0 ? (
              <Distribution
                bars={v.bars}
                over={v.scores?.state === "over"}
                width={560}
                labels={{ reference: "reference", period }}
              />
            ) : (
              <p className="mt-2 text-ink2">No scores.</p>
            )}
          </Section>
          <Section
            title={`What scores of ${v.version || "the model"} stood for`}
            note="by tenths of the rows whose outcome is known"
          >
            {v.calibration.length > 1 ? (
              <Calibration points={v.calibration} />
            ) : (
              <p className="mt-2 text-ink2">
                {m.outcome
                  ? "No outcome of these rows is known yet."
                  : "Say which column tells what came true, with --outcome, and it is shown here."}
              </p>
            )}
          </Section>
        </div>
      ))}
      <Against versions={m.compared} />
    </>
  );
}

function Versions({
  versions,
  period,
  threshold,
}: {
  versions: Version[];
  period: string;
  threshold: number;
}) {
  return (
    <Section className="mt-6" title="Versions" note={period}>
      <table className="mt-1 w-full border-collapse">
        <thead>
          <tr>
            <th className="py-1">version</th>
            <th className="num">rows</th>
            <th className="num">mean score</th>
            <th className="num">scored {threshold} or more</th>
            <th className="num">lacking an input</th>
            <th className="pl-8">scores</th>
            <th className="num">ranking (AUC)</th>
            <th className="num">less the reference's</th>
            <th className="num">came true over said</th>
          </tr>
        </thead>
        <tbody>
          {versions.map((m) => (
            <tr key={m.version} className="h-[31px]">
              <td className="font-[650]">{m.version || "(no version)"}</td>
              <td className="num">{number(m.rows)}</td>
              <td className="num">{m.classes || !m.scores ? "–" : m.scores.period.mean.toFixed(3)}</td>
              <td className="num">
                {m.classes
                  ? Object.entries(m.classes)
                      .map(([k, v]) => `${k} ${percent(v)}`)
                      .join(", ")
                  : `${(m.above * 100).toFixed(1)} %`}
              </td>
              <td className="num">{(m.missing_input * 100).toFixed(1)} %</td>
              <td className="pl-8">
                {m.scores?.state === "over" ? (
                  <Mark state="critical" word={m.same ? "over" : "over, new version"} />
                ) : (
                  <Mark
                    state="not due"
                    word={m.same ? (m.scores?.state ?? "–") : `${m.scores?.state ?? "–"}, new version`}
                  />
                )}
              </td>
              <td className="num">
                {m.quality
                  ? `${m.quality.auc.toFixed(2)} ` +
                    `(${m.quality.auc_low.toFixed(2)}–${m.quality.auc_high.toFixed(2)})`
                  : "–"}
              </td>
              <td className={`num ${m.concept && m.concept.high < 0 ? "font-[650] text-verm" : ""}`}>
                {m.concept
                  ? `${signed(m.concept.value, 2)} (${signed(m.concept.low, 2)} to ` +
                    `${signed(m.concept.high, 2)})`
                  : "–"}
              </td>
              <td className="num">
                {m.quality
                  ? `${m.quality.ratio.toFixed(2)} ` +
                    `(${m.quality.ratio_low.toFixed(2)}–${m.quality.ratio_high.toFixed(2)})`
                  : "–"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-ink2">
        Ranking: the chance that a row that came true was scored above one that did not. Where it falls while
        inputs stay as they were, what inputs mean has changed.
      </p>
    </Section>
  );
}

/** One version against another, on the rows that both scored or on like ones. */
function Against({ versions }: { versions: NonNullable<View["compared"]> }) {
  if (versions.length === 0) return null;
  return (
    <Section className="mt-6" title="Version against version">
      <table className="mt-1 border-collapse">
        <thead>
          <tr>
            <th className="py-1 pr-10">version</th>
            <th className="pr-10">against</th>
            <th className="pr-10">on</th>
            <th className="num pr-10">rows</th>
            <th className="num pr-10">mean score</th>
            <th className="num pr-10">mean before</th>
            <th className="num pr-10">difference</th>
            <th className="num">other side of the threshold</th>
          </tr>
        </thead>
        <tbody>
          {versions.map((v, i) => (
            <tr key={i} className="h-[31px]">
              <td className="font-[650]">{v.b}</td>
              <td>{v.a}</td>
              <td className="pr-10">{v.same ? "the same rows" : "like inputs"}</td>
              <td className="num pr-10">{number(v.rows)}</td>
              <td className="num pr-10">{v.mean_b.toFixed(3)}</td>
              <td className="num pr-10">{v.mean_a.toFixed(3)}</td>
              <td className="num pr-10">
                {signed(v.difference.value, 3)} ({signed(v.difference.low, 3)} to{" "}
                {signed(v.difference.high, 3)})
              </td>
              <td className="num">{v.same ? percent(v.apart) : "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 max-w-[900px] text-ink2">
        On like inputs: rows of the older version are weighed so that their inputs are spread as those of the
        newer; what differs then is the versions' own doing.
      </p>
    </Section>
  );
}
