import { max, min } from "d3-array";
import { scaleLinear, scaleTime } from "d3-scale";
import { type KeyboardEvent, type PointerEvent, useId, useState } from "react";
import { useNavigate } from "react-router";
import type { Chart } from "../api/client";
import { city, number, ticks, time, value } from "../parts/words";
import { divisions, some } from "./divisions";
import { asDeviation, filledAt, joined, paths, pointsOf, thin, top } from "./shapes";
import { Notes } from "./Notes";
import { Planned } from "./Planned";
import { Hatches, Strip } from "./Strip";
import { useWidth } from "./width";
import { Button } from "../parts/Form";
import { period as periodOf, wider } from "../parts/period";

const left = 56,
  right = 74,
  lane = 10;

/** Values laid over a series, one for each of its periods. */
export type Over = { name: string; values: (number | null)[]; note?: string };

/**
 * A series with its band, expected line and two-lane strip. Hover or arrow keys
 * move the reading, dragging chooses a stretch, a double click or 0 resets it.
 */
export function SeriesChart({
  chart,
  now,
  since,
  at,
  onAt,
  onZoom,
  over = [],
  height = 322,
}: {
  chart: Chart;
  now: number;
  since?: string;
  at: number;
  onAt: (index: number) => void;
  onZoom: (from: Date | null, to?: Date) => void;
  /** Other values at the same periods, laid over it. */
  over?: Over[];
  height?: number;
}) {
  const id = useId();
  const go = useNavigate();
  const [box, width] = useWidth<HTMLDivElement>();
  const [drag, setDrag] = useState<{ from: number; to: number } | null>(null);
  const [counts, setCounts] = useState<boolean | null>(null);
  const full = pointsOf(chart);
  const n = full.at.length;
  const inner = Math.max(width - left - right, 200),
    plot = height - 2 * lane - 44;
  if (n === 0) return <p className="mt-6 text-ink2">No sample in this stretch.</p>;
  // Past a month the daily shape of hourly samples hides the band; daily ones have none.
  const long = full.at[n - 1] - full.at[0] > 30 * 86_400_000 * wider(chart.period_seconds, 14);
  const deviating = long && !counts;
  const p = thin(deviating ? asDeviation(full) : full, inner * 2);
  const period = chart.period_seconds * 1000;
  const x = scaleTime()
    .domain([full.at[0], full.at[n - 1] + period / 2])
    .range([0, inner]);
  const known = (list: (number | null)[]) => list.filter((v): v is number => v !== null);
  const beyond = deviating ? [] : over.flatMap((o) => known(o.values));
  const highest = deviating
    ? Math.max(max(known(p.observed)) ?? 1, 1)
    : Math.max(top(p), max(beyond) ?? -Infinity);
  const lowest =
    deviating || chart.kind === "value"
      ? Math.min(min(known(p.observed)) ?? 0, min(known(p.low)) ?? 0, min(known(p.floor ?? [])) ?? 0)
      : 0;
  const y = scaleLinear().domain([lowest, highest]).nice(4).range([plot, 0]);
  const d = paths(p, x, y);
  const days = divisions(full.at[0], full.at[n - 1], chart.zone);
  const index = Math.min(Math.max(at, 0), n - 1);
  const nearest = (px: number) => {
    const t = x.invert(px).getTime();
    return Math.max(0, Math.min(n - 1, Math.round((t - full.at[0]) / period)));
  };
  const place = (e: PointerEvent<SVGRectElement>) => e.clientX - e.currentTarget.getBoundingClientRect().left;
  const move = (e: PointerEvent<SVGRectElement>) => {
    if (drag) setDrag({ ...drag, to: place(e) });
    onAt(nearest(place(e)));
  };
  const drop = () => {
    if (drag && Math.abs(drag.to - drag.from) > 8)
      onZoom(x.invert(Math.min(drag.from, drag.to)), x.invert(Math.max(drag.from, drag.to)));
    setDrag(null);
  };
  const press = (e: KeyboardEvent) => {
    const step = e.shiftKey ? Math.max(Math.round(86400 / chart.period_seconds), 1) : 1;
    if (e.key === "ArrowLeft") onAt(index - step);
    else if (e.key === "ArrowRight") onAt(index + step);
    else if (e.key === "0") onZoom(null);
    else return;
    e.preventDefault();
  };
  const shown = deviating ? asDeviation(full) : full;
  const lastBand = known(shown.high).length ? shown.high.findLastIndex((v) => v !== null) : -1;
  const unit = chart.unit || chart.measure.replaceAll("_", " ");
  const per =
    { 3600: "per hour", 86400: "per day", 300: "per 5 minutes", 60: "per minute" }[chart.period_seconds] ??
    (chart.period_seconds > 86400 ? `per ${periodOf(chart.period_seconds)}` : "");
  return (
    <div ref={box}>
      <div className="flex justify-between text-[12.5px] text-ink2">
        <span>
          {deviating
            ? `deviation of ${unit}, in half-widths of the band`
            : `${unit} ${chart.kind === "count" ? per : ""}`}
          {chart.series.segment && ` at ${chart.series.segment}`}; times in {city(chart.zone)}
        </span>
        {long && (
          <Button look="text" onClick={() => setCounts(!counts)}>
            {deviating ? unit : "deviation"}
          </Button>
        )}
      </div>
      <svg
        width={width}
        height={height}
        role="application"
        tabIndex={0}
        aria-label={`${unit} over time; arrow keys move the reading`}
        onKeyDown={press}
        data-chart={chart.series.id}
      >
        <Hatches id={id} />
        <g transform={`translate(${left},10)`}>
          {ticks(y, deviating ? "value" : chart.kind, 4).map((t) => (
            <g key={t}>
              <line x2={inner} y1={y(t)} y2={y(t)} stroke="var(--hair)" />
              <text x={-8} y={y(t) + 4} textAnchor="end">
                {deviating ? number(t) : value(t, chart.kind)}
              </text>
            </g>
          ))}
          {days.at.map((t) => (
            <line key={t} x1={x(t)} x2={x(t)} y1={0} y2={plot + 2 * lane + 18} stroke="var(--hair)" />
          ))}
          <clipPath id={`${id}-plot`}>
            <rect width={inner} height={plot} />
          </clipPath>
          <Planned chart={chart} x={x} inner={inner} height={plot} named />
          <path d={d.band} fill="var(--pewter)" clipPath={`url(#${id}-plot)`} />
          <Notes chart={chart} x={x} inner={inner} height={plot} named />
          <path d={d.below + d.above} fill="var(--verm-wash)" />
          <path d={d.expected} fill="none" stroke="var(--pewter-line)" strokeDasharray="3 2.5" />
          <path
            d={d.bounds}
            fill="none"
            stroke="var(--ink2)"
            strokeWidth="1"
            clipPath={`url(#${id}-plot)`}
            data-bounds={d.bounds !== "" || undefined}
          />
          {!deviating &&
            over.map((o, i) => (
              <path
                key={o.name}
                d={joined(full.at, o.values, x, y)}
                fill="none"
                stroke="var(--brass-text)"
                strokeWidth="1.5"
                strokeDasharray={i === 0 ? "1 3" : "5 2 1 2"}
                strokeLinecap="round"
                data-over={o.name}
              />
            ))}
          <path
            d={d.observed}
            fill="none"
            stroke="var(--ink)"
            strokeWidth={n > 500 ? 1 : 1.5}
            strokeLinejoin="round"
          />
          {!deviating &&
            filledAt(p).map(([t, v]) => (
              <circle key={t} cx={x(t)} cy={y(v)} r="2" fill="none" stroke="var(--ink3)" data-filled>
                <title>filled: nothing came</title>
              </circle>
            ))}
          <line x2={inner} y1={y(0)} y2={y(0)} stroke={deviating ? "var(--pewter-line)" : "var(--ink)"} />
          {full.observed.map((v, i) =>
            v === null &&
            full.at[i] < now - period &&
            full.at[i - 1] !== undefined &&
            full.observed[i - 1] !== null ? (
              <text
                key={i}
                x={x(full.at[i])}
                y={plot - 8}
                textAnchor={x(full.at[i]) > inner - 30 ? "end" : "middle"}
              >
                no data
              </text>
            ) : null,
          )}
          {since && x(new Date(since)) > 0 && (
            <g>
              <line
                x1={x(new Date(since))}
                x2={x(new Date(since))}
                y1={0}
                y2={plot}
                stroke="var(--verm-mark)"
                strokeDasharray="2 2"
              />
              <text
                x={x(new Date(since)) - 6}
                y={8}
                textAnchor="end"
                style={{ fill: "var(--verm)", fontWeight: 600 }}
              >
                from {time(since, chart.zone, chart.period_seconds > 86400 ? "day" : "short")}
              </text>
            </g>
          )}
          {lastBand >= 0 && (
            <g>
              <text
                x={inner + 8}
                y={Math.max(y(shown.high[lastBand]!), 8) + 4}
                style={{ fill: "var(--ink2)" }}
              >
                band
              </text>
              {Math.abs(y(shown.high[lastBand]!) - y(shown.expected[lastBand]!)) > 13 && (
                <text x={inner + 8} y={y(shown.expected[lastBand]!) + 4} style={{ fill: "var(--ink2)" }}>
                  expected
                </text>
              )}
            </g>
          )}
          {(
            [
              ["floor", shown.floor],
              ["ceiling", shown.ceiling],
            ] as const
          ).map(([name, list]) => {
            const last = list?.findLast((v) => v !== null);
            return (
              last !== undefined &&
              last !== null &&
              y(last) >= 0 &&
              y(last) <= plot && (
                <text
                  key={name}
                  x={inner + 8}
                  y={y(last) + 4}
                  style={{ fill: "var(--ink2)", fontWeight: 600 }}
                >
                  bound
                </text>
              )
            );
          })}
          <text x={-8} y={plot + 15} textAnchor="end">
            alerts
          </text>
          <text x={-8} y={plot + 28} textAnchor="end">
            incidents
          </text>
          <Strip
            alerts={chart.alerts}
            incidents={chart.incidents}
            x={x}
            y={plot + 7}
            width={inner}
            lane={lane}
            now={now}
            id={id}
            onAlert={(a) => go(`/alerts/${a}`)}
          />
          {x(now) <= inner && x(now) >= 0 && (
            <g>
              <line
                x1={x(now)}
                x2={x(now)}
                y1={0}
                y2={plot + 2 * lane + 18}
                stroke="var(--brass-text)"
                strokeWidth="1.5"
              />
              <text x={x(now) + 5} y={8} style={{ fill: "var(--ink)", fontWeight: 600 }}>
                {time(now, chart.zone, "time")} now
              </text>
            </g>
          )}
          {some(days.at, inner / 92).map((t) => (
            <text key={t} x={x(t) + 4} y={plot + 2 * lane + 32}>
              {days.name(t)}
            </text>
          ))}
          {full.observed[index] !== null && (
            <g>
              <line x1={x(full.at[index])} x2={x(full.at[index])} y1={0} y2={plot} stroke="var(--ink)" />
              <circle
                cx={x(full.at[index])}
                cy={y(shown.observed[index]!)}
                r="3"
                fill="var(--ground)"
                stroke="var(--ink)"
                strokeWidth="1.5"
              />
            </g>
          )}
          {drag && (
            <rect
              x={Math.min(drag.from, drag.to)}
              width={Math.abs(drag.to - drag.from)}
              height={plot}
              fill="var(--pewter-line)"
              opacity="0.25"
            />
          )}
          <rect
            width={inner}
            height={plot}
            fill="transparent"
            onPointerMove={move}
            onPointerDown={(e) => setDrag({ from: place(e), to: place(e) })}
            onPointerUp={drop}
            onPointerLeave={() => setDrag(null)}
            onDoubleClick={() => onZoom(null)}
          />
        </g>
      </svg>
    </div>
  );
}
