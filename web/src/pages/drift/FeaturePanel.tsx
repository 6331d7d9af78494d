import { Link } from "react-router";
import { useDriftFeature } from "../../api/drift";
import { Distribution, DistributionKey } from "../../chart/Distribution";
import { Mark } from "../../parts/Mark";
import { Reading, Section, Trouble } from "../../parts/Page";
import { count, number } from "../../parts/words";
import { days, figure, measures } from "./says";

/** One feature in one period: its distributions, its measures beside their limits. */
export function FeaturePanel({
  name,
  feature,
  at,
  link,
}: {
  name: string;
  feature: string;
  at: string;
  link?: React.ReactNode;
}) {
  const found = useDriftFeature(name, feature, at);
  const d = found.data;
  if (!d)
    return (
      <Section title={feature}>
        {found.error ? <Trouble what={feature} error={found.error} /> : <Reading what={feature} />}
      </Section>
    );
  const period = d.period,
    accept = d.accept;
  const over = d.result.measures.some((m) => m.name === "psi" && m.limit > 0 && m.value > m.limit);
  const labels = {
    reference: `reference, ${number(d.result.reference.rows)} rows`,
    period: `${days(d.from, d.to, d.zone)}, ${number(d.result.period.rows)} rows`,
  };
  const numeric = d.kind === "number" || d.kind === "time";
  return (
    <section className="border-t border-ink pt-[6px]" aria-label={feature}>
      <div className="flex items-baseline justify-between">
        <h2 className="mono text-[14px] font-[650]">{feature}</h2>
        <span className="text-[13px] text-ink2">{days(d.from, d.to, d.zone)}</span>
      </div>
      <DistributionKey labels={labels} />
      <div className="mt-1 text-[12.5px] text-ink2">
        % of rows{d.kind === "time" && ", hours from the row's own time"}
      </div>
      {d.bars.length > 0 ? (
        <Distribution bars={d.bars} over={over} labels={labels} />
      ) : (
        <p className="mt-2 text-ink2">Nothing to draw: no values, or too many different ones.</p>
      )}
      <table className="mt-2 w-full border-collapse">
        <thead>
          <tr>
            <th className="py-1">measure</th>
            <th className="num">{period}</th>
            <th className="num pl-4">limit</th>
            <td className="pl-5" />
          </tr>
        </thead>
        <tbody>
          {d.result.measures.map((m) => (
            <tr key={m.name} className="h-[25px]">
              <td className={m.decides ? "" : "text-ink2"}>{measures[m.name] ?? m.name}</td>
              <td className="num font-[650]">{figure(m.name, m.value)}</td>
              <td className="num pl-4 text-ink2">{m.limit > 0 ? figure(m.name, m.limit) : "–"}</td>
              <td className="pl-5">
                {m.limit > 0 &&
                  (m.value > m.limit ? (
                    <Mark state={m.decides ? "critical" : "warning"} word="over" />
                  ) : (
                    <Mark state="not due" word="as expected" />
                  ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {numeric && d.result.period.rows > 0 && (
        <p className="mt-2 text-ink2">
          Mean {number(d.result.period.mean)}, {number(d.result.reference.mean)} before; median{" "}
          {number(d.result.period.median)}, {number(d.result.reference.median)} before;{" "}
          {number(d.result.period.min)} to {number(d.result.period.max)}.
        </p>
      )}
      {(d.result.new ?? []).length > 0 && (
        <p className="mt-2 text-ink2">New: {d.result.new!.slice(0, 8).join(", ")}</p>
      )}
      {(d.result.vanished ?? []).length > 0 && (
        <p className="mt-2 text-ink2">Gone: {d.result.vanished!.slice(0, 8).join(", ")}</p>
      )}
      <p className="mt-2 text-ink2">
        {d.result.state === "over" ? (
          <>Over for {count(d.streak, period)} in a row.</>
        ) : d.result.state === "as expected" ? (
          <>Under its limit for {count(d.streak, period)}.</>
        ) : (
          d.result.why
        )}{" "}
        Limits let one clean {period} in {number(1 / accept)} be flagged at this number of rows
        {d.reference.blocks > 0
          ? `, and allow for what ${count(d.reference.blocks, "block")} of the reference wobble`
          : "; nothing is known of the reference's wobble"}
        .
      </p>
      <div className="mt-3 flex gap-2">
        {link ?? (
          <Link
            className="plain border border-ink px-3 py-[4px] font-[650]"
            to={"/alerts?" + new URLSearchParams({ monitor: `${name}-drift`, segment: feature }).toString()}
          >
            Its alerts
          </Link>
        )}
      </div>
    </section>
  );
}
