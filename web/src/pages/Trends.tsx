import { scaleLinear, scaleTime } from "d3-scale";
import { useState } from "react";
import type { TrendStudy } from "../api/client";
import { useTrends } from "../api/queries";
import { useWidth } from "../chart/width";
import { paths } from "../chart/shapes";
import { Choice } from "../parts/Controls";
import { Reading } from "../parts/Page";
import { between, month, periods } from "../parts/period";
import { value } from "../parts/words";
import { divisions, plainly, some } from "../chart/divisions";

const day = 86_400;

/** Does a series grow, and did its level change: tests, what follows, and what does not. */
export function Trends({ id }: { id: number }) {
  const [days, setDays] = useState<"0" | "90" | "180" | "365">("0");
  const study = useTrends(id, Number(days));
  return (
    <>
      <div className="mt-2 text-[13px]">
        <Choice
          name="Days tested"
          value={days}
          options={[
            ["0", "all days"],
            ["90", "90 d"],
            ["180", "180 d"],
            ["365", "a year"],
          ]}
          onChange={setDays}
        />
      </div>
      {study.error && (
        <p role="alert" className="mt-2 text-ink2">
          {study.error.message}
        </p>
      )}
      {study.isPending && <Reading what="the tests" />}
      {study.data && <Found s={study.data} />}
    </>
  );
}

const p = (x: number | null) =>
  x === null ? "–" : x < 0.001 ? "under .001" : x.toFixed(3).replace("0.", ".");

/** What comes again and is taken out first. */
const shapes: Record<number, string> = {
  [day]: "the week's shape taken out, ",
  [month]: "the year's shape taken out, ",
};

function Found({ s }: { s: TrendStudy }) {
  const each = between(s.at),
    shape = shapes[each] ?? "";
  return (
    <>
      <p className="mt-2">
        {s.sentence} <span className="text-ink2">{s.caution}</span>
      </p>
      <Days s={s} />
      <table className="mt-1 w-full border-collapse">
        <thead>
          <tr className="border-b border-rule">
            <th className="py-1">test</th>
            <th>of</th>
            <th className="num">statistic</th>
            <th className="num">p</th>
            <th className="num">p by bootstrap</th>
          </tr>
        </thead>
        <tbody>
          {s.tests.map((t) => {
            const found = (t.p_bootstrap ?? t.p) <= 0.05;
            return (
              <tr key={t.name} className="h-[25px]">
                <td>{t.name}</td>
                <td className="text-ink2">{t.of}</td>
                <td className="num">{Number(t.statistic.toPrecision(4)).toLocaleString("en")}</td>
                <td className="num text-ink2">{p(t.p)}</td>
                <td className={`num ${found ? "font-bold" : ""}`}>{p(t.p_bootstrap)}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <p className="mt-1 text-[13px] text-ink2">
        {s.days} {periods(each)}, {shape}known faults and planned stretches left out. What a{" "}
        {periods(each).slice(0, -1)} owes to the one before is allowed for in every p.
      </p>
    </>
  );
}

/** The days, with the slope and the change of level; in ink what describes them better. */
function Days({ s }: { s: TrendStudy }) {
  const [box, width] = useWidth<HTMLDivElement>();
  const left = 56,
    height = 180,
    inner = Math.max(width - left - 10, 200),
    plot = height - 30;
  const at = s.at.map((t) => Date.parse(t)),
    values = s.value;
  const known = values.filter((v): v is number => v !== null).sort((a, b) => a - b);
  const x = scaleTime()
    .domain([at[0], at[at.length - 1]])
    .range([0, inner]);
  const dates = divisions(at[0], at[at.length - 1], s.zone);
  const y = scaleLinear()
    .domain([Math.min(0, known[0] ?? 0), known[known.length - 1] ?? 1])
    .nice(4)
    .range([plot, 0]);
  const none = at.map(() => null);
  const line = paths(
    { at, observed: values, expected: none, low: none, high: none, deviation: none },
    x,
    y,
  ).observed;
  const middle = known[Math.floor(known.length / 2)] ?? 0,
    half = (s.slope_a_day * (at.length - 1)) / 2;
  const stepped = s.better === "step",
    shade = (own: boolean) => (own ? "var(--ink)" : "var(--pewter2)");
  const cut = x(Date.parse(s.change_at));
  return (
    <div ref={box} className="mt-2">
      <svg width={width} height={height} role="img" aria-label={s.sentence} data-trend>
        <g transform={`translate(${left},8)`}>
          {y.ticks(4).map((t) => (
            <g key={t}>
              <line x2={inner} y1={y(t)} y2={y(t)} stroke={t ? "var(--hair)" : "var(--ink)"} />
              <text x={-8} y={y(t) + 4} textAnchor="end">
                {value(t, s.kind)}
              </text>
            </g>
          ))}
          {stepped && (
            <rect
              x={x(Date.parse(s.change_low))}
              width={Math.max(x(Date.parse(s.change_high)) - x(Date.parse(s.change_low)), 2)}
              height={plot}
              fill="var(--pewter)"
            />
          )}
          <path d={line} fill="none" stroke="var(--pewter-line)" strokeWidth="1" />
          <path
            d={`M0,${y(middle - half)}L${inner},${y(middle + half)}`}
            stroke={shade(!stepped)}
            strokeWidth="2"
            fill="none"
          />
          <path
            d={`M0,${y(s.before)}H${cut}V${y(s.after)}H${inner}`}
            stroke={shade(stepped)}
            strokeWidth="2"
            fill="none"
          />
          {some(dates.at, 6).map((t) => (
            <text key={t} x={x(t)} y={plot + 16} textAnchor="middle">
              {plainly(dates.name(t))}
            </text>
          ))}
        </g>
      </svg>
    </div>
  );
}
