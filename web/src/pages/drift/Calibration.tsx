import { scaleLinear } from "d3-scale";
import type { ModelView } from "../../api/client";

type Point = NonNullable<NonNullable<ModelView["versions"]>[number]["calibration"]>[number];

const left = 44,
  size = 212;

/** What scores said against what came true: on the dashed line they say it well. */
export function Calibration({ points }: { points: Point[] }) {
  const most = Math.min(1, Math.max(...points.map((p) => Math.max(p.said, p.high))) * 1.05);
  const x = scaleLinear()
      .domain([0, most])
      .range([left, left + 1.6 * size]),
    y = scaleLinear().domain([0, most]).range([size, 6]);
  const percent = (v: number) => `${Number((v * 100).toFixed(1))} %`;
  return (
    <svg
      width={left + 1.6 * size + 20}
      height={size + 38}
      role="img"
      aria-label="share that came true by what scores said"
    >
      {y.ticks(4).map((t) => (
        <g key={t}>
          <line x1={left} x2={left + 1.6 * size} y1={y(t)} y2={y(t)} stroke="var(--hair)" />
          <text x={left - 7} y={y(t) + 4} textAnchor="end">
            {percent(t)}
          </text>
        </g>
      ))}
      {x.ticks(5).map((t) => (
        <text key={t} x={x(t)} y={size + 16} textAnchor="middle">
          {percent(t)}
        </text>
      ))}
      <line
        x1={x(0)}
        x2={x(most)}
        y1={y(0)}
        y2={y(most)}
        stroke="var(--pewter-line)"
        strokeDasharray="3 2.5"
      />
      {points.map((p, i) => (
        <g key={i}>
          <title>
            {`${p.rows.toLocaleString("en")} rows scored ${percent(p.said)} on average; ` +
              `${percent(p.share)} came true (${percent(p.low)} to ${percent(p.high)})`}
          </title>
          <rect
            x={x(p.said) - 3.5}
            width="7"
            y={y(p.high)}
            height={Math.max(y(p.low) - y(p.high), 1)}
            fill="var(--pewter2)"
          />
          <circle cx={x(p.said)} cy={y(p.share)} r="2.6" fill="var(--ink)" />
        </g>
      ))}
      <text x={left + 8} y="16">
        came true
      </text>
      <text x={left + 1.6 * size} y={size + 33} textAnchor="end">
        the scores said
      </text>
      <text x={x(most) - 28} y={y(most) + 10} textAnchor="end">
        as said
      </text>
    </svg>
  );
}
