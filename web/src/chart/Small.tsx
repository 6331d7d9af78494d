import { max, min } from "d3-array";
import { scaleLinear, scaleTime } from "d3-scale";
import { useId } from "react";
import type { Alert, Chart, Incident } from "../api/client";
import { ticks, value } from "../parts/words";
import { filledAt, paths, pointsOf, thin, top } from "./shapes";
import { Notes } from "./Notes";
import { Planned } from "./Planned";
import { Hatches, Strip } from "./Strip";
import { divisions, some } from "./divisions";

/** A small chart with its strip: a few days, three figures, dates below. */
export function SmallChart({
  chart,
  now,
  width = 340,
  height = 84,
  lane = 6,
  asked,
}: {
  chart: Chart;
  now: number;
  width?: number;
  height?: number;
  lane?: number;
  asked?: [number, number];
}) {
  const id = useId();
  const left = 48,
    above = 6;
  const inner = width - left - 2,
    plot = height - above - 2 * lane - 22;
  const points = thin(pointsOf(chart), inner * 2);
  if (points.at.length === 0) return <p className="text-ink2">No sample in this stretch.</p>;
  const x = scaleTime()
    .domain([points.at[0], points.at[points.at.length - 1] + chart.period_seconds * 1000])
    .range([0, inner]);
  const lowest = chart.kind === "value" ? (min(points.observed.filter((v) => v !== null)) ?? 0) : 0;
  const y = scaleLinear()
    .domain([lowest, top(points)])
    .nice(2)
    .range([plot, 0]);
  const d = paths(points, x, y);
  const [began, ended] = x.domain().map(Number);
  const within = divisions(began, ended, chart.zone);
  const days =
    ended - began > 14 * 86_400_000
      ? some(within.at, 6)
      : x
          .ticks(4)
          .map(Number)
          .filter((t) => t > began);
  const named = days.filter((t, i) => i === 0 || Math.min(x(t) + 3, inner - 44) - x(days[i - 1]) > 50);
  return (
    <svg
      width={width}
      height={height}
      role="img"
      aria-label={`${chart.unit || chart.measure} of ${chart.series.segment || chart.dataset}`}
    >
      <Hatches id={id} />
      <g transform={`translate(${left},${above})`}>
        {ticks(y, chart.kind, 2).map((t) => (
          <g key={t}>
            <line x2={inner} y1={y(t)} y2={y(t)} stroke={t === 0 ? "var(--ink)" : "var(--hair)"} />
            <text x={-8} y={y(t) + 4} textAnchor="end">
              {value(t, chart.kind)}
            </text>
          </g>
        ))}
        {days.map((t) => (
          <line key={t} x1={x(t)} x2={x(t)} y1={0} y2={plot + 2 * lane + 9} stroke="var(--hair)" />
        ))}
        <clipPath id={`${id}-plot`}>
          <rect width={inner} height={plot} />
        </clipPath>
        <Planned chart={chart} x={x} inner={inner} height={plot} />
        <path d={d.band} fill="var(--pewter)" clipPath={`url(#${id}-plot)`} />
        <Notes chart={chart} x={x} inner={inner} height={plot} />
        <path d={d.below + d.above} fill="var(--verm-wash)" />
        <path d={d.expected} fill="none" stroke="var(--pewter-line)" strokeDasharray="3 2.5" />
        <path
          d={d.observed}
          fill="none"
          stroke="var(--ink)"
          strokeWidth={points.at.length > 2 * inner ? 0.4 : 1.3}
          strokeLinejoin="round"
        />
        {filledAt(points).map(([t, v]) => (
          <circle key={t} cx={x(t)} cy={y(v)} r="1.6" fill="none" stroke="var(--ink3)" data-filled>
            <title>filled: nothing came</title>
          </circle>
        ))}
        <Strip
          alerts={chart.alerts}
          incidents={chart.incidents}
          x={x}
          y={plot + 4}
          width={inner}
          lane={lane}
          now={now}
          id={id}
        />
        {asked && (
          <g data-asked>
            <rect
              x={x(asked[0])}
              width={Math.max(x(asked[1]) - x(asked[0]), 2)}
              height={plot}
              fill="var(--brass-text)"
              opacity="0.14"
            />
            {asked.map((at) => (
              <line
                key={at}
                x1={x(at)}
                x2={x(at)}
                y1={0}
                y2={plot}
                stroke="var(--brass-text)"
                strokeDasharray="4 3"
              />
            ))}
          </g>
        )}
        <line
          x1={x(now)}
          x2={x(now)}
          y1={0}
          y2={plot + 2 * lane + 9}
          stroke="var(--brass-text)"
          strokeWidth="1.5"
        />
        {named.map((t) => (
          <text key={t} x={Math.min(x(t) + 3, inner - 44)} y={height - above - 2}>
            {within.name(t).replace(/^(\w+ \d+) \w+$/, "$1")}
          </text>
        ))}
      </g>
    </svg>
  );
}

/** A sparkline with its band. */
export function Spark({
  spark,
  picked,
  width = 164,
  height = 30,
}: {
  picked?: readonly [number, number];
  spark: {
    from: string;
    period_seconds: number;
    observed: (number | null)[] | null;
    low: (number | null)[] | null;
    high: (number | null)[] | null;
  };
  width?: number;
  height?: number;
}) {
  const observed = spark.observed ?? [];
  if (observed.length === 0) return <span className="text-ink3">no rows measured</span>;
  const points = {
    at: observed.map((_, i) => i),
    observed,
    expected: observed.map(() => null),
    low: spark.low ?? [],
    high: spark.high ?? [],
    deviation: observed,
  };
  const x = (i: number) => (i / Math.max(observed.length - 1, 1)) * (width - 4) + 1;
  const highest =
    Math.max(
      max(observed.filter((v) => v !== null)) ?? 0,
      max((spark.high ?? []).filter((v) => v !== null)) ?? 0,
    ) || 1;
  const y = (v: number) => height - 2 - (v / highest) * (height - 4);
  const d = paths(points, x, y);
  const last = observed.findLastIndex((v) => v !== null);
  const place = (t: number) =>
    Math.min(Math.max((t - Date.parse(spark.from)) / 1000 / spark.period_seconds, 0), observed.length - 1);
  return (
    <svg width={width} height={height} aria-hidden className="block">
      {picked && (
        <rect
          x={x(place(picked[0]))}
          width={Math.max(x(place(picked[1])) - x(place(picked[0])), 1)}
          height={height}
          fill="var(--well)"
          stroke="var(--brass-mark)"
        />
      )}
      <path d={d.band} fill="var(--pewter)" />
      <path d={d.observed} fill="none" stroke="var(--ink)" strokeWidth="1.1" strokeLinejoin="round" />
      {last >= 0 && <circle cx={x(last)} cy={y(observed[last]!)} r="2" fill="var(--ink)" />}
    </svg>
  );
}

/** A day of one dataset: alerts above the line, incidents below, a tick for each load. */
export function DayStrip({
  alerts,
  incidents,
  loads,
  from,
  to,
  width,
}: {
  alerts: Alert[];
  incidents: Incident[];
  loads: string[];
  from: number;
  to: number;
  width: number;
}) {
  const id = useId();
  const x = scaleTime().domain([from, to]).range([0, width]);
  return (
    <svg width={width} height={17} aria-hidden className="block">
      <Hatches id={id} />
      {loads.map((t) => (
        <line key={t} x1={x(new Date(t))} x2={x(new Date(t))} y1={8} y2={11} stroke="var(--ink2)" />
      ))}
      <Strip alerts={alerts} incidents={incidents} x={x} y={1} width={width} lane={5} now={to} id={id} />
    </svg>
  );
}
