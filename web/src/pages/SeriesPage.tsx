import { cumsum } from "d3-array";
import { scaleLinear } from "d3-scale";
import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Explanation, Smoothing, Suitability } from "../api/client";
import { useChart, useExplain, useForecast, useNow, useSmoothing } from "../api/queries";
import { useSuitability } from "../api/studies";
import { Ahead as AheadChart } from "../chart/Ahead";
import { Said } from "./series/Said";
import { SmallChart } from "../chart/Small";
import { useWidth } from "../chart/width";
import { Earlier } from "./Earlier";
import { Outliers } from "./Outliers";
import { Trends } from "./Trends";
import { Choice, Figures } from "../parts/Controls";
import { Download } from "../parts/Download";
import { Embed } from "../parts/Embed";
import { Gaps, useFill } from "../parts/Gaps";
import { Like } from "../parts/Like";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { city, duration, number, percent, signed, time, value } from "../parts/words";
import { Refusal } from "../parts/Form";
import { period, periods, wider } from "../parts/period";

const hour = 3_600_000,
  day = 24 * hour;

const verdicts = {
  suits: "A band suits",
  weak: "A band is weak for",
  unsuitable: "A band does not suit",
} as const;

function sentence(s: Suitability): string {
  const what = (s.unit || s.measure.replaceAll("_", " ")) + (s.series.segment && ` at ${s.series.segment}`);
  return `${verdicts[s.fitness]} ${what}${s.reasons?.length ? `: ${s.reasons[0]}` : ""}.`;
}

/**
 * One series studied: does a band suit it, where does a value come from, what would smoothing do, what
 * comes next.
 */
export function SeriesPage() {
  const id = Number(useParams().id);
  const suits = useSuitability(id);
  const now = useNow();
  const s = suits.data;
  if (!s)
    return (
      <Page place="Series" sentence="">
        <Trouble what="The series" error={suits.error} />
        {suits.isPending && <Reading what="the series" />}
      </Page>
    );
  const end = Math.floor(now / hour) * hour;
  return (
    <Page
      sentence={sentence(s)}
      after={s.instead && `Instead: ${s.instead}.`}
      place={
        <>
          Series of{" "}
          <Link to={`/datasets/${s.dataset}`}>
            <code>{s.dataset}</code>
          </Link>
          {s.monitor && (
            <>
              , monitor <Link to={`/monitors/${s.monitor}?series=${id}`}>{s.monitor}</Link>
            </>
          )}
        </>
      }
    >
      <div className="mt-2 flex flex-wrap gap-x-8">
        <Link to={`/charts?series=${id}&beside=week`} className="text-[13px]">
          Beside last week, or another series
        </Link>
        <Embed series={id} />
        <Download
          name="The last 90 days"
          path={`/metrics/${encodeURIComponent(s.metric)}/export`}
          query={{ segment: s.series.segment, from: new Date(end - 90 * 24 * hour).toISOString() }}
        />
      </div>
      <div className="mt-3 grid grid-cols-2 gap-x-9 gap-y-5 max-lg:grid-cols-1">
        <div className="grid content-start gap-5">
          <Section title="What it is like">
            <Like series={id} />
          </Section>
          <Section title="Suitability" note="how well a band can do here">
            <Suits s={s} now={now} end={end} />
          </Section>
          <Section title="Why this was expected" note="an expected value in parts that add up">
            <Why id={id} s={s} end={end} />
          </Section>
          <Section title="Earlier years and weeks" note="by weekday and holiday, with a 95 % interval">
            <Earlier id={id} />
          </Section>
          <Section title="Smoothing bench" note="a moving median or mean before detection, tried on the past">
            <Smooth id={id} />
          </Section>
        </div>
        <div className="grid content-start gap-5">
          <Section
            title="Forecast"
            note={
              (s.period_seconds > 86_400 ? periods(s.period_seconds) : "local days") +
              ", with a 90 % interval"
            }
          >
            <Ahead id={id} s={s} />
          </Section>
          <Section title="Trend and change" note="does it grow, did its level change, or is it chance">
            <Trends id={id} />
          </Section>
          <Section title="What stands out" note="z, modified z and quartile fences, side by side">
            <Outliers metric={s.metric} segment={s.series.segment} />
          </Section>
        </div>
      </div>
    </Page>
  );
}

function Suits({ s, now, end }: { s: Suitability; now: number; end: number }) {
  const [box, width] = useWidth<HTMLDivElement>();
  const span = 7 * wider(s.period_seconds, 13);
  const chart = useChart(s.series.id, new Date(end - span * day), new Date(end));
  const rows: [string, string][] = [
    ["foretold", s.explained === null ? "–" : `${percent(s.explained)} of its ordinary variation`],
    ["half-width", s.half_width === null ? "–" : `${percent(s.half_width)} of what is expected, median`],
    ["shape", s.shape],
    [
      "history",
      `${number(s.have_days, 0)} days; ${number(s.need_days, 0)} needed, from ` +
        `${number(s.best_days, 0)} on thresholds are its own`,
    ],
    [
      "missing, zero, repeated",
      `${percent(s.missing)}, ${percent(s.zeros)}, ${percent(s.repeats)} of its periods`,
    ],
  ];
  return (
    <div ref={box}>
      <div className="mt-2">
        {chart.data ? (
          <SmallChart chart={chart.data} now={now} width={width} height={150} />
        ) : (
          <div className="h-[150px] bg-well" />
        )}
      </div>
      <Said id={s.series.id} zone={s.zone} />
      <table className="mt-2 w-full border-collapse">
        <tbody>
          {rows.map(([name, text]) => (
            <tr key={name}>
              <td className="py-[3px] pr-4 whitespace-nowrap text-ink2">{name}</td>
              <td>{text}</td>
            </tr>
          ))}
          {s.reasons.slice(1).map((text) => (
            <tr key={text}>
              <td className="py-[3px] text-ink2">also</td>
              <td>{text}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Ahead({ id, s }: { id: number; s: Suitability }) {
  const each = Math.max(s.period_seconds / 86_400, 1);
  const long = each > 1;
  const [ahead, setAhead] = useState(long ? "6" : "60");
  const days = String(Number(ahead) * each);
  const [limit, setLimit] = useState<number | undefined>();
  const f = useForecast(id, Number(days), limit === undefined ? "" : String(limit));
  return (
    <>
      <div className="mt-2 flex items-center gap-4 text-[13px]">
        <Choice
          name="Days ahead"
          value={ahead}
          options={(long ? ["3", "6", "12"] : ["30", "60", "180"]).map(
            (n) => [n, long ? `${n} ${periods(s.period_seconds)}` : `${n} d`] as const,
          )}
          onChange={setAhead}
        />
        <Figures
          name="Limit"
          width={90}
          value={limit}
          onChange={setLimit}
          after={`a ${long ? period(s.period_seconds) : "day"}, asked about`}
        />
      </div>
      <Refusal error={f.error} className="mt-2" />
      {f.data && (
        <>
          <AheadChart f={f.data} kind={s.kind} />
          <p className="mt-1 text-ink2">
            {f.data.sentence} Model: {f.data.model}
            {f.data.error !== null &&
              ", off by " +
                (f.data.kind === "count" || f.data.kind === "duration"
                  ? percent(f.data.error)
                  : number(f.data.error)) +
                " " +
                `on average ${f.data.error_at_days} days ahead`}
            .
          </p>
        </>
      )}
    </>
  );
}

function Why({ id, s, end }: { id: number; s: Suitability; end: number }) {
  const [back, setBack] = useState("0");
  const period = s.period_seconds * 1000;
  const at = new Date(Math.floor(end / period) * period - period - Number(back) * day).toISOString();
  const x = useExplain(id, at);
  return (
    <>
      <div className="mt-2 flex items-center gap-4 text-[13px]">
        <Choice
          name="When"
          value={back}
          options={[
            ["0", "newest"],
            ["1", "a day ago"],
            ["7", "a week ago"],
          ]}
          onChange={setBack}
        />
      </div>
      <Refusal error={x.error} className="mt-2" />
      {x.data && <Parts x={x.data} />}
    </>
  );
}

/** The parts of an expected value, each from where the last one ended. */
function Parts({ x }: { x: Explanation }) {
  const parts = x.parts;
  const ends = cumsum(parts, (p) => p.amount);
  const steps = parts.map((p, i) => ({ ...p, from: i === 0 ? 0 : ends[i - 1], to: ends[i] }));
  const lowest = Math.min(0, ...steps.map((p) => p.to)),
    highest = Math.max(x.expected, 0, ...steps.map((p) => p.to)) || 1;
  const scale = scaleLinear().domain([lowest, highest]).range([0, 230]);
  const bar = (from: number, to: number, fill: string) => (
    <rect
      x={scale(Math.min(from, to))}
      y={4}
      width={Math.max(Math.abs(scale(to) - scale(from)), 1)}
      height={11}
      fill={fill}
    />
  );
  return (
    <>
      <table className="mt-2 w-full border-collapse">
        <tbody>
          {steps.map((p) => (
            <tr key={p.name}>
              <td className="py-[3px] pr-4 whitespace-nowrap">{p.name}</td>
              <td className="w-[240px]">
                <svg width={232} height={19} aria-hidden>
                  {bar(p.from, p.to, p.amount < 0 ? "var(--pewter2)" : "var(--pewter-line)")}
                </svg>
              </td>
              <td className="num">{signed(p.amount, Math.abs(p.amount) < 10 ? 2 : 0)}</td>
            </tr>
          ))}
          <tr className="font-bold">
            <td className="py-[3px]">expected at {time(x.at, x.zone, "short")}</td>
            <td>
              <svg width={232} height={19} aria-hidden>
                {bar(0, x.expected, "var(--ink)")}
              </svg>
            </td>
            <td className="num">{value(x.expected, x.kind)}</td>
          </tr>
        </tbody>
      </table>
      <p className="mt-1 text-[13px] text-ink2">
        Learned from {time(x.trained_from, x.zone, "day")} to{" "}
        {`${time(x.trained_to, x.zone, "day")}, times in ${city(x.zone)}; `}
        {x.excluded.length
          ? `left out: ${x.excluded.map((e) => `${time(e.from, x.zone, "day")} ${e.why}`).join("; ")}`
          : "nothing left out"}
        .
      </p>
    </>
  );
}

function Smooth({ id }: { id: number }) {
  const [fill, setFill] = useFill();
  const bench = useSmoothing(id, fill);
  if (bench.error) return <p className="mt-2 text-ink2">{bench.error.message}</p>;
  if (!bench.data) return <Reading what="the past under each window" />;
  return (
    <>
      <SmoothTable b={bench.data} />
      <p className="mt-1">
        <Gaps fill={fill} onFill={setFill} />
        {bench.data.filled > 0 && (
          <span className="ml-3 text-[13px] text-ink2">{number(bench.data.filled)} periods were filled</span>
        )}
      </p>
    </>
  );
}

function SmoothTable({ b }: { b: Smoothing }) {
  const share = (v: number) => (
    <svg width={46} height={12} className="inline-block align-middle" aria-hidden>
      <rect width={44} height={9} y={1.5} fill="var(--hair)" />
      <rect width={44 * v} height={9} y={1.5} fill="var(--verm-mark)" />
    </svg>
  );
  return (
    <>
      <table className="mt-2 w-full border-collapse">
        <thead>
          <tr className="border-b border-rule">
            <th className="py-1">window</th>
            <th colSpan={3}>spikes of 1, 2, 3 that alarm</th>
            <th className="num">faults found</th>
            <th className="num">after</th>
            <th className="num">false gone</th>
          </tr>
        </thead>
        <tbody>
          {b.windows.map((w) => (
            <tr key={w.by + w.periods} className={w.recommended ? "font-bold" : ""}>
              <td className="py-[3px]">
                {w.periods === 1 ? "none" : `${w.by} of ${w.periods}`}
                {w.recommended && (
                  <i
                    className="ml-2 inline-block size-[7px] rounded-full bg-brass-mark"
                    title="recommended"
                  />
                )}
              </td>
              {w.spikes.map((v, i) => (
                <td key={i} className="whitespace-nowrap">
                  {share(v)} {percent(v)}
                </td>
              ))}
              <td className="num">{percent(w.dips)}</td>
              <td className="num">{duration(w.delay_seconds)}</td>
              <td className="num">
                {w.false_gone} of {w.false_before}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 text-ink2">{b.sentence} Spikes and faults were planted at ten places of the past.</p>
    </>
  );
}
