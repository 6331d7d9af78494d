import { scaleLinear } from "d3-scale";
import { useState } from "react";
import type { ModelView } from "../../api/client";
import { useWidth } from "../../chart/width";
import { day, days } from "./says";

export type Point = { at: number; low?: number; high?: number };
type Period = NonNullable<ModelView["periods"]>[number];

const left = 44,
  right = 66,
  plot = 92;
const dashes = [undefined, "5 3", "1.5 3", "8 3 1.5 3"];

/** One figure of each version of a model over the periods, with its interval. */
export function OverPeriods({
  title,
  note,
  periods,
  zone,
  framed,
  setFramed,
  read,
  share,
}: {
  title: string;
  note: string;
  periods: Period[];
  zone: string;
  framed: string;
  setFramed: (from: string) => void;
  read: (m: NonNullable<Period["models"]>[number]) => Point | null;
  share?: boolean;
}) {
  const [box, width] = useWidth<HTMLDivElement>();
  const [over, setOver] = useState<number | null>(null);
  const versions = [...new Set(periods.flatMap((p) => p.models.map((m) => m.version)))];
  const points = versions.map((version) =>
    periods.map((p) => {
      const m = p.models.find((one) => one.version === version);
      return m ? read(m) : null;
    }),
  );
  const all = points.flat().filter((p): p is Point => p !== null);
  const inner = Math.max(width - left - right, 100),
    step = inner / Math.max(periods.length, 1);
  const x = (i: number) => left + (i + 0.5) * step;
  const low = Math.min(...all.map((p) => p.low ?? p.at)),
    high = Math.max(...all.map((p) => p.high ?? p.at)),
    pad = (high - low || high || 1) * 0.12;
  const y = scaleLinear()
    .domain([share ? 0 : low - pad, high + pad])
    .range([plot, 4]);
  const text = (v: number) => (share ? `${(v * 100).toFixed(1)} %` : v.toFixed(3));
  const every = Math.ceil(periods.length / 6);
  const shown = over ?? periods.findIndex((p) => p.from === framed);
  return (
    <div ref={box}>
      <div className="flex items-baseline justify-between text-[13px]">
        <span>
          <b className="font-[650]">{title}</b> <span className="text-ink2">{note}</span>
        </span>
        <span className="text-ink2">
          {periods[shown] && (
            <>
              {days(periods[shown].from, periods[shown].to, zone)}:{" "}
              {versions
                .map((v, k) => points[k][shown] && `${v || "model"} ${text(points[k][shown].at)}`)
                .filter(Boolean)
                .join(", ") || "not known"}
            </>
          )}
        </span>
      </div>
      {all.length === 0 ? (
        <p className="mt-2 text-ink2">Not known in any of these periods.</p>
      ) : (
        <svg
          width={width}
          height={plot + 22}
          role="img"
          aria-label={`${title} by period and version`}
          onMouseLeave={() => setOver(null)}
        >
          {y.ticks(3).map((t) => (
            <g key={t}>
              <line x1={left} x2={left + inner} y1={y(t)} y2={y(t)} stroke="var(--hair)" />
              <text x={left - 7} y={y(t) + 4} textAnchor="end">
                {share ? `${Number((t * 100).toFixed(1))} %` : y.tickFormat(3)(t)}
              </text>
            </g>
          ))}
          {points.map((list, k) => {
            const known = list
              .map((p, i) => ({ p, i }))
              .filter((e): e is { p: Point; i: number } => e.p !== null);
            const last = known[known.length - 1];
            return (
              <g key={versions[k]}>
                {known.map(
                  ({ p, i }) =>
                    p.low !== undefined && (
                      <rect
                        key={i}
                        x={x(i) - 3.5}
                        width="7"
                        y={y(p.high!)}
                        height={Math.max(y(p.low) - y(p.high!), 1)}
                        fill="var(--pewter2)"
                      />
                    ),
                )}
                <polyline
                  fill="none"
                  stroke="var(--ink)"
                  strokeWidth="1.4"
                  strokeDasharray={dashes[k % dashes.length]}
                  points={known.map(({ p, i }) => `${x(i)},${y(p.at)}`).join(" ")}
                />
                {known.map(({ p, i }) => (
                  <circle key={i} cx={x(i)} cy={y(p.at)} r={step > 10 ? 2.4 : 1.4} fill="var(--ink)" />
                ))}
                {last && (
                  <text
                    x={x(last.i) + 8}
                    y={y(last.p.at) + 4}
                    style={{ fill: "var(--ink)", fontWeight: 650 }}
                  >
                    {versions[k]}
                  </text>
                )}
              </g>
            );
          })}
          {periods.map((p, i) => (
            <g key={p.from}>
              {p.from === framed && (
                <rect
                  x={x(i) - step / 2}
                  y="1"
                  width={step}
                  height={plot - 1}
                  fill="none"
                  stroke="var(--ink)"
                  strokeWidth="1.4"
                />
              )}
              {i % every === 0 && (
                <text x={x(i)} y={plot + 16} textAnchor="middle">
                  {day(p.from, zone)}
                </text>
              )}
              <rect
                x={x(i) - step / 2}
                width={step}
                height={plot}
                fill="transparent"
                className="cursor-pointer"
                onMouseEnter={() => setOver(i)}
                onClick={() => setFramed(p.from)}
              />
            </g>
          ))}
        </svg>
      )}
    </div>
  );
}
