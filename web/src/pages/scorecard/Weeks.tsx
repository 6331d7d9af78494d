import { scaleLinear } from "d3-scale";
import type { Figure, Week } from "../../api/client";
import { useWidth } from "../../chart/width";
import { time } from "../../parts/words";

/** Weeks that are named below a chart: every third of a few, of many some five, with the year. */
export function named(weeks: Pick<Week, "from">[], zone: string): [number, string][] {
  const every = Math.max(3, Math.ceil(weeks.length / 5));
  return weeks.flatMap((w, i) =>
    i % every
      ? []
      : [[i, weeks.length > 40 ? time(w.from, zone, "month") : time(w.from, zone, "day").slice(4)]],
  );
}

/** A figure by week with its intervals; the whole stretch stands at the end. */
export function Trend({
  weeks,
  pick,
  overall,
  zone,
}: {
  weeks: Week[];
  pick: (w: Week) => Figure;
  overall: Figure;
  zone: string;
}) {
  const [box, width] = useWidth<HTMLDivElement>();
  const left = 32,
    right = 44,
    height = 190,
    bottom = 166;
  const x = (i: number) => left + 10 + (i * (width - left - right - 20)) / Math.max(weeks.length - 1, 1);
  const y = scaleLinear().domain([0, 1]).range([bottom, 10]);
  const known = weeks.map((w, i) => ({ w, i, f: pick(w) })).filter((v) => v.f.estimate !== null);
  return (
    <div ref={box}>
      <svg width={width} height={height} role="img" aria-label="by week">
        {[0, 0.25, 0.5, 0.75, 1].map((t) => (
          <g key={t}>
            <line
              x1={left}
              x2={width - right}
              y1={y(t)}
              y2={y(t)}
              stroke={t === 0 ? "var(--ink)" : "var(--hair)"}
            />
            <text x={left - 6} y={y(t) + 4} textAnchor="end">
              {t.toFixed(2)}
            </text>
          </g>
        ))}
        {known.map(({ f, i }) => (
          <rect
            key={i}
            x={x(i) - 3.5}
            width={7}
            y={y(f.high!)}
            height={y(f.low!) - y(f.high!)}
            fill="var(--pewter2)"
          />
        ))}
        <path
          d={known.map(({ f, i }, k) => `${k ? "L" : "M"}${x(i)},${y(f.estimate!)}`).join("")}
          fill="none"
          stroke="var(--ink)"
          strokeWidth="1.5"
        />
        {known.map(({ f, i }) => (
          <circle key={i} cx={x(i)} cy={y(f.estimate!)} r="3" fill="var(--ink)">
            <title>{`${f.k} of ${f.n}`}</title>
          </circle>
        ))}
        {overall.estimate !== null && (
          <text
            x={width - right + 6}
            y={y(overall.estimate) + 5}
            style={{ fontSize: 14.5, fontWeight: 650, fill: "var(--ink)" }}
          >
            {overall.estimate.toFixed(2)}
          </text>
        )}
        {named(weeks, zone).map(([i, name]) => (
          <text key={i} x={x(i)} y={height - 8} textAnchor="middle">
            {name}
          </text>
        ))}
      </svg>
    </div>
  );
}

/** Alerts a week: faults in ink at the bottom, then planned, noise, unlabelled. */
export function Load({ weeks, zone }: { weeks: Week[]; zone: string }) {
  const [box, width] = useWidth<HTMLDivElement>();
  const left = 26,
    right = 74,
    height = 190,
    bottom = 166;
  const total = (w: Week) => w.faults + w.noise + w.planned + w.unlabelled;
  const most = Math.max(...weeks.map(total), 4);
  const y = scaleLinear().domain([0, most]).nice(4).range([bottom, 10]);
  const step = (width - left - right) / Math.max(weeks.length, 1);
  const parts = [
    ["faults", "var(--ink)", "none"],
    ["planned", "var(--violet-wash)", "var(--violet)"],
    ["noise", "var(--pewter)", "var(--noise)"],
    ["unlabelled", "none", "var(--ink2)"],
  ] as const;
  const names = { faults: "fault", planned: "planned", noise: "noise", unlabelled: "unlabelled" };
  return (
    <div ref={box}>
      <svg width={width} height={height} role="img" aria-label="alerts a week by label">
        {y
          .ticks(4)
          .filter(Number.isInteger)
          .map((t) => (
            <g key={t}>
              <line
                x1={left}
                x2={width - right}
                y1={y(t)}
                y2={y(t)}
                stroke={t ? "var(--hair)" : "var(--ink)"}
              />
              <text x={left - 6} y={y(t) + 4} textAnchor="end">
                {t}
              </text>
            </g>
          ))}
        {weeks.map((w, i) => {
          let base = 0;
          return parts.map(([name, fill, stroke]) => {
            const n = w[name],
              top = base + n;
            const bar = n > 0 && (
              <rect
                key={name + i}
                x={left + i * step + 2}
                width={Math.max(step - 4, 3)}
                y={y(top) + 0.5}
                height={y(base) - y(top) - 1}
                fill={fill}
                stroke={stroke}
                strokeDasharray={name === "unlabelled" ? "3 2" : undefined}
              >
                <title>{`${n} ${names[name]}`}</title>
              </rect>
            );
            base = top;
            return bar;
          });
        })}
        {parts.map(([name], k) => (
          <text
            key={name}
            x={width - right + 8}
            y={bottom - 4 - k * 18}
            style={{
              fill: name === "planned" ? "var(--violet)" : "var(--ink2)",
              fontWeight: name === "faults" ? 600 : 400,
            }}
          >
            {names[name]}
          </text>
        ))}
        {named(weeks, zone).map(([i, name]) => (
          <text key={i} x={left + (i + 0.5) * step} y={height - 8} textAnchor="middle">
            {name}
          </text>
        ))}
      </svg>
    </div>
  );
}
