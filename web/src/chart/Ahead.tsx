import { max } from "d3-array";
import { scaleLinear, scaleTime } from "d3-scale";
import { useId } from "react";
import type { Forecast } from "../api/client";
import { number, value } from "../parts/words";
import { useWidth } from "./width";
import { paths } from "./shapes";
import { divisions, plainly, some } from "./divisions";

/** The days so far, and behind a line those to come with their interval. */
export function Ahead({ f, kind, height = 190 }: { f: Forecast; kind: string; height?: number }) {
  const [box, width] = useWidth<HTMLDivElement>();
  const clip = useId();
  const left = 56,
    inner = Math.max(width - left - 10, 200),
    plot = height - 30;
  const past = f.past_at.map((t) => Date.parse(t)),
    ahead = f.at.map((t) => Date.parse(t));
  const x = scaleTime()
    .domain([past[0] ?? ahead[0], ahead[ahead.length - 1]])
    .range([0, inner]);
  const dates = divisions(past[0] ?? ahead[0], ahead[ahead.length - 1], f.zone);
  const seen = max(f.past.filter((v): v is number => v !== null)) ?? 0;
  const y = scaleLinear()
    .domain([0, Math.max(seen, Math.min(max(f.high) ?? 0, 3 * seen), f.limit ?? 0)])
    .nice(4)
    .range([plot, 0]);
  const none = past.map(() => null);
  const before = paths(
    {
      at: past,
      observed: f.past,
      expected: none,
      low: none,
      high: none,
      deviation: none,
    },
    x,
    y,
  );
  const after = paths(
    {
      at: ahead,
      observed: ahead.map(() => null),
      expected: f.expected,
      low: f.low,
      high: f.high,
      deviation: f.expected,
    },
    x,
    y,
  );
  const reached = f.reaches_at ? x(Date.parse(f.reaches_at)) : undefined;
  return (
    <div ref={box} className="mt-2">
      <svg width={width} height={height} role="img" aria-label={f.sentence} data-forecast>
        <g transform={`translate(${left},8)`}>
          <clipPath id={clip}>
            <rect width={inner} height={plot} />
          </clipPath>
          {y.ticks(4).map((t) => (
            <g key={t}>
              <line x2={inner} y1={y(t)} y2={y(t)} stroke={t ? "var(--hair)" : "var(--ink)"} />
              <text x={-8} y={y(t) + 4} textAnchor="end">
                {value(t, kind)}
              </text>
            </g>
          ))}
          <path d={after.band} fill="var(--pewter)" clipPath={`url(#${clip})`} />
          <path
            d={after.expected}
            fill="none"
            stroke="var(--pewter-line)"
            strokeDasharray="3 2.5"
            strokeWidth="1.3"
          />
          <path d={before.observed} fill="none" stroke="var(--ink)" strokeWidth="1.3" />
          {f.limit !== null && (
            <>
              <line
                x2={inner}
                y1={y(f.limit)}
                y2={y(f.limit)}
                stroke="var(--verm-mark)"
                strokeDasharray="2 2"
              />
              <text x={4} y={y(f.limit) - 4} style={{ fill: "var(--verm)" }}>
                {number(f.limit)}
              </text>
            </>
          )}
          {reached !== undefined && (
            <circle cx={reached} cy={y(f.limit!)} r="4" fill="var(--verm-mark)" data-reached />
          )}
          <line x1={x(ahead[0])} x2={x(ahead[0])} y2={plot} stroke="var(--brass-text)" strokeWidth="1.5" />
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
