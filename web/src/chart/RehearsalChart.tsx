import { scaleLinear, scaleTime } from "d3-scale";
import { type PointerEvent, useId, useState } from "react";
import type { Alert, Rehearsal, Replay } from "../api/client";
import { number, ticks, value } from "../parts/words";
import { divisions, some } from "./divisions";
import { useWidth } from "./width";
import { Planned } from "./Planned";
import { paths, type Points, thin, top } from "./shapes";
import { Hatches, Strip } from "./Strip";

const left = 56,
  right = 10,
  lane = 10;
type Num = number | null;

/** A replayed alert as the strip draws it: hits in ink, false alarms as outlines. */
const asBar = (a: NonNullable<Replay["alerts"]>[number], i: number) =>
  ({
    id: i,
    raised_at: a.raised_at,
    ended_at: a.closed_at,
    closed_at: a.closed_at,
    severity: a.severity,
    verdict:
      ({ hit: "fault", repeat: "fault", false: "noise", planned: "planned" } as Record<string, string>)[
        a.outcome
      ] ?? "",
    sentence: `${a.rule}, ${a.outcome}${a.incident ? `, ${a.incident}` : ""}`,
  }) as Alert;

/** Values and band of one side, both in today's half-widths, so that a wider ribbon is seen to be wider. */
function inHalfWidths(r: Rehearsal, side: Replay): Points {
  const t = r.today;
  const scaled = (v: Num | undefined, i: number) => {
    const e = t.expected[i],
      low = t.low[i],
      high = t.high[i];
    if (v === null || v === undefined || e === null || low === null || high === null) return null;
    const width = v >= e ? high - e : e - low;
    return Math.max(-6, Math.min(6, (v - e) / Math.max(width, 1e-9)));
  };
  const column = (list: Num[]) => list.map(scaled);
  const observed = column(r.observed);
  return {
    at: r.at.map((a) => Date.parse(a)),
    observed,
    expected: column(side.expected),
    low: column(side.low),
    high: column(side.high),
    deviation: observed,
  };
}

/**
 * One side of a rehearsal: the drawn series against that side's band, with its alerts and the incidents
 * below.
 */
export function RehearsalChart({
  r,
  side,
  counts,
  stretch,
  onStretch,
  height = 168,
}: {
  r: Rehearsal;
  side: Replay;
  counts: boolean;
  stretch: [number, number] | null;
  onStretch: (s: [number, number] | null) => void;
  height?: number;
}) {
  const id = useId();
  const [box, width] = useWidth<HTMLDivElement>();
  const [drag, setDrag] = useState<{ from: number; to: number } | null>(null);
  const inner = Math.max(width - left - right, 200),
    plot = height - 2 * lane - 40;
  const end = Date.parse(r.to);
  const [from, to] = stretch ?? [Date.parse(r.from), end];
  const full: Points = counts
    ? {
        at: r.at.map((a) => Date.parse(a)),
        observed: r.observed,
        expected: side.expected,
        low: side.low,
        high: side.high,
        deviation: [],
      }
    : inHalfWidths(r, side);
  const inside = full.at
    .map((t, i) => [t, i] as const)
    .filter(([t]) => t >= from && t < to)
    .map(([, i]) => i);
  const cut = <T,>(list: T[]) => inside.map((i) => list[i]);
  const shown: Points = {
    at: cut(full.at),
    observed: cut(full.observed),
    expected: cut(full.expected),
    low: cut(full.low),
    high: cut(full.high),
    deviation: [],
  };
  const p = thin(shown, inner * 2);
  const x = scaleTime().domain([from, to]).range([0, inner]);
  const known = (list: Num[]) => list.filter((v): v is number => v !== null);
  const domain = counts
    ? [r.kind === "value" ? Math.min(...known(p.observed), ...known(p.low)) : 0, top(p)]
    : [Math.min(-2, ...known(p.observed)), Math.max(2, ...known(p.observed))];
  const y = scaleLinear().domain(domain).nice(4).range([plot, 0]);
  const d = paths(p, x, y);
  const place = (e: PointerEvent<SVGRectElement>) => e.clientX - e.currentTarget.getBoundingClientRect().left;
  const drop = () => {
    if (drag && Math.abs(drag.to - drag.from) > 8)
      onStretch([+x.invert(Math.min(drag.from, drag.to)), +x.invert(Math.max(drag.from, drag.to))]);
    setDrag(null);
  };
  const days = divisions(from, to, r.zone);
  const named = some(days.at, inner / 92).filter((t) => x(t) < inner - 46);
  const own = side.alerts.filter((a) => a.series_id === r.drawn.id);
  return (
    <div ref={box}>
      <svg
        width={width}
        height={height}
        role="img"
        aria-label={`${own.length} alerts over the stretch; drag to zoom, double click to reset`}
        data-rehearsal
      >
        <Hatches id={id} />
        <g transform={`translate(${left},8)`}>
          {ticks(y, counts ? r.kind : "value", 3).map((t) => (
            <g key={t}>
              <line x2={inner} y1={y(t)} y2={y(t)} stroke="var(--hair)" />
              <text x={-8} y={y(t) + 4} textAnchor="end">
                {counts ? value(t, r.kind) : t > 0 ? `+${number(t)}` : number(t)}
              </text>
            </g>
          ))}
          {named.map((t) => (
            <line key={t} x1={x(t)} x2={x(t)} y1={0} y2={plot + 2 * lane + 16} stroke="var(--hair)" />
          ))}
          <clipPath id={`${id}-plot`}>
            <rect width={inner} height={plot} />
          </clipPath>
          <g clipPath={`url(#${id}-plot)`}>
            <Planned chart={r} x={x} inner={inner} height={plot} />
            <path d={d.band} fill="var(--pewter)" />
            <path d={d.below + d.above} fill="var(--verm-wash)" />
            <path d={d.expected} fill="none" stroke="var(--pewter-line)" strokeDasharray="3 2.5" />
            <path
              d={d.observed}
              fill="none"
              stroke="var(--ink)"
              strokeWidth={shown.at.length > 500 ? 1 : 1.3}
              strokeLinejoin="round"
            />
          </g>
          <text x={-8} y={plot + 15} textAnchor="end">
            alerts
          </text>
          <text x={-8} y={plot + 28} textAnchor="end">
            incidents
          </text>
          <Strip
            alerts={own.map(asBar)}
            incidents={r.incidents}
            x={x}
            y={plot + 7}
            width={inner}
            lane={lane}
            now={end}
            id={id}
          />
          {named.map((t) => (
            <text key={t} x={x(t) + 4} y={plot + 2 * lane + 27}>
              {days.name(t)}
            </text>
          ))}
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
            onPointerDown={(e) => setDrag({ from: place(e), to: place(e) })}
            onPointerMove={(e) => drag && setDrag({ ...drag, to: place(e) })}
            onPointerUp={drop}
            onPointerLeave={() => setDrag(null)}
            onDoubleClick={() => onStretch(null)}
          />
        </g>
      </svg>
    </div>
  );
}
