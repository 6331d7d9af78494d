import type { ScaleTime } from "d3-scale";
import type { PlannedEvent } from "../api/client";

/**
 * Planned events behind a chart: a violet ground between two brackets, and what it is where there is room.
 * Holidays are named at the top alone.
 */
export function Planned({
  chart,
  x,
  inner,
  height,
  named,
}: {
  chart: { planned: PlannedEvent[] | null };
  x: ScaleTime<number, number>;
  inner: number;
  height: number;
  named?: boolean;
}) {
  return (chart.planned ?? []).map((e) => {
    const from = Math.max(x(new Date(e.started_at)), 0),
      to = Math.min(x(new Date(e.ended_at)), inner);
    if (to <= from) return null;
    const what = e.holiday
      ? "holiday"
      : e.effect === "widen"
        ? "wider band"
        : e.effect === "leave out"
          ? "not learned from"
          : "not judged";
    return (
      <g key={`${e.uid}${e.started_at}`} data-planned>
        <title>{`${e.summary} (${what})`}</title>
        {!e.holiday && (
          <rect x={from} width={Math.max(to - from, 2)} height={height} fill="var(--violet-wash)" />
        )}
        <path
          d={`M${from + 4} .7H${from}V6M${to - 4} .7H${to}V6`}
          fill="none"
          stroke="var(--violet)"
          strokeWidth="1.4"
        />
        {named && to - from > e.summary.length * 6.2 && (
          <text x={from + 6} y={12} style={{ fill: "var(--violet)" }}>
            {e.summary}
          </text>
        )}
      </g>
    );
  });
}
