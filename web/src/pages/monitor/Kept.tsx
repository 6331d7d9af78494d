import { Link } from "react-router";
import type { Kinship, Monitor } from "../../api/client";
import { Section } from "../../parts/Page";
import { time } from "../../parts/words";

/** What the series of a monitor together tell of the limits of each. */
function Alike({ kin }: { kin: Kinship }) {
  const worth = Object.entries({
    dips: kin.low,
    rises: kin.high,
    silences: kin.silence,
    "missing stretches": kin.missing,
    "frozen stretches": kin.stuck,
  }).flatMap(([what, t]) => (t.worth > 0 ? [`${Math.round(t.worth)} ${what}`] : []));
  const young = Math.round(100 * kin.young);
  return (
    <p className="mt-1 text-[13px] text-ink2">
      {worth.length > 0 && (
        <>
          How the largest fall off is alike in its series: each leans on the others&apos; as on{" "}
          {worth.join(", ")} of its own.{" "}
        </>
      )}
      {young > 0 && (
        <>
          A series without a past has limits {young} % higher: so much farther went its series in weeks they
          were not fitted to.
        </>
      )}
    </p>
  );
}

/** How the budget was kept on a part of the past that limits were not fitted to, and since, by rule. */
export function Kept({ m }: { m: Monitor }) {
  const b = m.budget;
  const rules = b ? b.rules.filter((r) => r.rung + r.told > 0 || r.factor > 1) : [];
  return (
    <Section
      title="On its own past"
      right={<Link to={`/monitors/${m.name}/past`}>ask about it</Link>}
      className="mt-4"
    >
      {!b ? (
        <p className="mt-1 text-[13px] text-ink2">Not tried yet: it is with the first fit.</p>
      ) : (
        <>
          {rules.length > 0 && (
            <table className="mt-1 w-full border-collapse">
              <thead>
                <tr className="border-b border-rule">
                  <th className="text-left font-normal text-ink2">rule</th>
                  <th className="num">stated</th>
                  <th className="num">rang</th>
                  <th className="num">limit</th>
                </tr>
              </thead>
              <tbody>
                {rules.map((r) => (
                  <tr key={r.rule}>
                    <td className="py-1">{r.rule}</td>
                    <td className="num">{(r.stated + r.since).toFixed(1)}</td>
                    <td className="num">{r.rung + r.told}</td>
                    <td className="num">{r.factor > 1.005 ? `x ${r.factor.toFixed(2)}` : "own"}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          <p className="mt-1 text-[13px] text-ink2">
            Limits from what lay before, rings counted from {time(b.from, "UTC", "day")} to{" "}
            {time(b.to, "UTC", "day")} over {b.series} series{rules.length === 0 && ": none"}. What rings more
            than stated raises that rule's limit; labels that call it right lower it again.
          </p>
          <Alike kin={b.kin} />
        </>
      )}
    </Section>
  );
}
