import { useState } from "react";
import type { Card, Figure } from "../../api/client";
import { useScoreOf } from "../../api/learning";
import { Interval } from "../../chart/Interval";
import { Choice } from "../../parts/Controls";
import { Section } from "../../parts/Page";
import { number, time } from "../../parts/words";

const spans = [
  ["2", "2 weeks"],
  ["4", "4 weeks"],
  ["6", "6 weeks"],
] as const;
const week = 7 * 86_400_000;

/** The last weeks beside as many before. */
export function Periods({ to, zone }: { to: string; zone: string }) {
  const [weeks, setWeeks] = useState<string>("4");
  const end = Math.ceil(Date.parse(to) / 3_600_000) * 3_600_000;
  const at = (n: number) => new Date(end - n * Number(weeks) * week).toISOString();
  const now = useScoreOf(at(1), at(0)),
    before = useScoreOf(at(2), at(1));
  const rows: [string, (c: Card) => Figure, number][] = [
    ["precision", (c) => c.precision, 2],
    ["recall", (c) => c.recall, 2],
    ["false alarms a week", (c) => c.false_alarms_per_week, 1],
  ];
  return (
    <Section
      className="mt-4"
      title="Two stretches"
      note={<Choice name="Length" value={weeks} options={spans} onChange={setWeeks} />}
      right={`${time(at(2), zone, "day")} · ${time(at(1), zone, "day")} · ${time(at(0), zone, "day")}`}
    >
      {now.data && before.data && (
        <table className="mt-1 w-full border-collapse">
          <thead>
            <tr className="border-b border-rule">
              <td className="py-1" />
              <th className="num">before</th>
              <th className="pl-4">95 % interval</th>
              <td />
              <th className="num">now</th>
              <th className="pl-4">95 % interval</th>
              <td />
              <th>difference</th>
            </tr>
          </thead>
          <tbody>
            {rows.map(([name, of, digits]) => {
              const a = of(before.data.overall),
                b = of(now.data.overall);
              const apart = (a.low ?? 0) > (b.high ?? Infinity) || (b.low ?? 0) > (a.high ?? Infinity);
              return (
                <tr key={name} className="h-[31px]">
                  <td>{name}</td>
                  {[a, b].map((f, k) => [
                    <td key={k} className="num font-semibold">
                      {number(f.estimate, digits)}
                    </td>,
                    <td key={`${k}i`} className="pl-4 text-ink2">
                      {f.low !== null &&
                        f.high !== null &&
                        `${number(f.low, digits)} to ${number(f.high, digits)}`}
                    </td>,
                    <td key={`${k}m`}>
                      {digits === 2 && f.estimate !== null && <Interval figure={f} width={90} />}
                    </td>,
                  ])}
                  <td className="text-ink2">
                    {a.estimate === null || b.estimate === null
                      ? "–"
                      : apart
                        ? "intervals apart"
                        : "may be chance"}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
    </Section>
  );
}
