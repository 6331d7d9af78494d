import { scaleLinear } from "d3-scale";
import type { Distributions } from "../api/client";

type Bar = NonNullable<Distributions["bars"]>[number];

const left = 34;
const text = (x: number) =>
  Math.abs(x) >= 1000 ? Math.round(x).toLocaleString("en") : Number(x.toPrecision(3)).toString();

/**
 * Two distributions over each other: the reference as an area, the period as a line in ink; below, where
 * the PSI comes from.
 */
export function Distribution({
  bars,
  over,
  width = 360,
  labels,
}: {
  bars: Bar[];
  over: boolean;
  width?: number;
  labels: { reference: string; period: string };
}) {
  const inner = width - left,
    high = 176,
    named = bars.some((b) => b.label !== undefined && b.label !== "");
  const most = Math.max(...bars.map((b) => Math.max(b.reference, b.period)), 1e-9);
  const y = scaleLinear()
    .domain([0, most * 1.06])
    .range([high, 0]);
  const step = inner / bars.length,
    x = (i: number) => left + i * step;
  const steps = (of: (b: Bar) => number) =>
    bars.map((b, i) => `${x(i)},${y(of(b))} ${x(i + 1)},${y(of(b))}`).join(" ");
  const psi = Math.max(...bars.map((b) => b.psi), 1e-9);
  const every = Math.ceil(bars.length / 6);
  const below = named ? 46 : 20;
  return (
    <svg
      width={width}
      height={high + below + 84}
      role="img"
      aria-label={`${labels.reference} and ${labels.period} over each other`}
    >
      {y.ticks(3).map((t) => (
        <g key={t}>
          <line x1={left} x2={width} y1={y(t)} y2={y(t)} stroke={t === 0 ? "var(--ink)" : "var(--hair)"} />
          <text x={left - 7} y={y(t) + 4} textAnchor="end">
            {Number((t * 100).toFixed(1))}
          </text>
        </g>
      ))}
      <polygon
        points={`${x(0)},${high} ${steps((b) => b.reference)} ${x(bars.length)},${high}`}
        fill="var(--pewter)"
        stroke="var(--pewter-line)"
        strokeWidth="0.8"
      />
      <polyline
        points={`${x(0)},${high} ${steps((b) => b.period)} ${x(bars.length)},${high}`}
        fill="none"
        stroke="var(--ink)"
        strokeWidth="1.7"
      />
      {bars.map((b, i) => (
        <g key={i}>
          <title>
            {`${b.label || `${text(b.from)} to ${text(b.to)}`}: ` +
              `${(b.reference * 100).toFixed(1)} % in the reference, ` +
              `${(b.period * 100).toFixed(1)} % now; adds ${b.psi.toFixed(3)} to the PSI`}
          </title>
          <rect x={x(i)} width={step} y="0" height={high + below + 78} fill="transparent" />
          <rect
            x={x(i) + Math.min(1, step / 8)}
            width={Math.max(step - 2, 1)}
            y={high + below + 74 - (50 * Math.max(b.psi, 0)) / psi}
            height={(50 * Math.max(b.psi, 0)) / psi}
            fill={over ? "var(--verm-mark)" : "var(--pewter2)"}
          />
          {named
            ? (bars.length <= 9 || i % Math.ceil(bars.length / 9) === 0) && (
                <text
                  x={x(i) + step / 2}
                  y={high + 15}
                  textAnchor="end"
                  transform={`rotate(-32 ${x(i) + step / 2} ${high + 15})`}
                >
                  {(b.label || text(b.from)).slice(0, 12)}
                </text>
              )
            : i % every === 0 && (
                <text x={x(i)} y={high + 15} textAnchor={i === 0 ? "start" : "middle"}>
                  {text(b.from)}
                </text>
              )}
        </g>
      ))}
      <text x={left} y={high + below + 14}>
        where the PSI comes from
      </text>
      <line x1={left} x2={width} y1={high + below + 74} y2={high + below + 74} stroke="var(--ink)" />
    </svg>
  );
}

/** What the two forms stand for. */
export function DistributionKey({ labels }: { labels: { reference: string; period: string } }) {
  return (
    <div className="mt-1 flex flex-wrap gap-x-5 text-[13px] text-ink2">
      <span className="flex items-center gap-2">
        <svg width="20" height="11" aria-hidden>
          <rect width="20" height="11" fill="var(--pewter)" stroke="var(--pewter-line)" />
        </svg>
        {labels.reference}
      </span>
      <span className="flex items-center gap-2 font-[650] text-ink">
        <svg width="20" height="11" aria-hidden>
          <path d="M0 9H7V3H20" fill="none" stroke="var(--ink)" strokeWidth="1.7" />
        </svg>
        {labels.period}
      </span>
    </div>
  );
}
