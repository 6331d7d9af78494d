import type { DriftPeriod } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { Section } from "../../parts/Page";
import { number, percent } from "../../parts/words";
import { days } from "./says";

const signed = (x: number) => `${x < 0 ? "−" : "+"}${Math.abs(x).toFixed(2)}`;

/** A model's versions in one period: scores, missing inputs, quality where outcomes are known, one against another. */
export function ModelView({ period, zone }: { period: DriftPeriod; zone: string }) {
  const models = period.found.models ?? [], versions = period.found.versions ?? [];
  if (models.length === 0) return <p className="mt-4 text-ink2">No model is named: say which column holds its score, and its version, with <code>tinbell drift set … --score … --version …</code>.</p>;
  return (
    <>
      <Section className="mt-4" title="Versions" note={days(period.from, period.to, zone)}>
        <table className="mt-1 w-full border-collapse">
          <thead><tr><th className="py-1">version</th><th className="num">rows</th><th className="num">mean score</th><th className="num">at or above the threshold</th><th className="num">lacking an input</th><th className="pl-8">scores</th><th className="num">ranking (AUC)</th><th className="num">less the reference's</th><th className="num">came true over said</th></tr></thead>
          <tbody>
            {models.map((m) => (
              <tr key={m.version} className="h-[31px]">
                <td className="font-[650]">{m.version || "(no version)"}</td><td className="num">{number(m.rows)}</td>
                <td className="num">{m.scores ? m.scores.period.mean.toFixed(3) : "–"}</td><td className="num">{m.classes ? Object.entries(m.classes).map(([k, v]) => `${k} ${percent(v)}`).join(", ") : `${(m.above * 100).toFixed(1)} %`}</td><td className="num">{(m.missing_input * 100).toFixed(1)} %</td>
                <td className="pl-8">{m.scores?.state === "over" ? <Mark state="critical" word={m.same ? "over" : "over, new version"} /> : <Mark state="not due" word={m.same ? (m.scores?.state ?? "–") : "as expected, new version"} />}</td>
                <td className="num">{m.quality ? `${m.quality.auc.toFixed(2)} (${m.quality.auc_low.toFixed(2)}–${m.quality.auc_high.toFixed(2)})` : "–"}</td>
                <td className={`num ${m.concept && m.concept.high < 0 ? "font-[650] text-verm" : ""}`}>{m.concept ? `${signed(m.concept.value)} (${signed(m.concept.low)} to ${signed(m.concept.high)})` : "–"}</td>
                <td className="num">{m.quality ? `${m.quality.ratio.toFixed(2)} (${m.quality.ratio_low.toFixed(2)}–${m.quality.ratio_high.toFixed(2)})` : "–"}</td>
              </tr>
            ))}
          </tbody>
        </table>
        <p className="mt-2 text-ink2">Ranking: the chance that a row that came true was scored above one that did not. Where it falls while inputs stay as they were, what inputs mean has changed.</p>
      </Section>
      {versions.length > 0 && (
        <Section className="mt-6" title="Version against version">
          <table className="mt-1 border-collapse">
            <thead><tr><th className="py-1 pr-10">version</th><th className="pr-10">against</th><th className="pr-10">on</th><th className="num pr-10">rows</th><th className="num pr-10">mean score</th><th className="num pr-10">mean before</th><th className="num pr-10">difference</th><th className="num">other side of the threshold</th></tr></thead>
            <tbody>
              {versions.map((v, i) => (
                <tr key={i} className="h-[31px]"><td className="font-[650]">{v.b}</td><td>{v.a}</td><td className="pr-10">{v.same ? "the same rows" : "like inputs"}</td><td className="num pr-10">{number(v.rows)}</td><td className="num pr-10">{v.mean_b.toFixed(3)}</td><td className="num pr-10">{v.mean_a.toFixed(3)}</td>
                  <td className="num pr-10">{v.difference.value.toFixed(3)} ({v.difference.low.toFixed(3)} to {v.difference.high.toFixed(3)})</td><td className="num">{v.same ? percent(v.apart) : "–"}</td></tr>
              ))}
            </tbody>
          </table>
          <p className="mt-2 max-w-[900px] text-ink2">On like inputs: rows of the older version are weighed so that their inputs are spread as those of the newer; what differs then is the versions' own doing.</p>
        </Section>
      )}
    </>
  );
}
