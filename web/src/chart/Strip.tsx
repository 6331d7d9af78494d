import type { Alert, Incident } from "../api/client";

export type Scale = (at: number | Date) => number;

/** A bar of the strip, on a time scale. */
type Bar = { from: number; to: number };

/** The bar of a stretch, as wide as can be seen; none where all of it lies outside. */
function barOf(x: Scale, from: string, to: string | null | undefined, now: number, right: number): Bar[] {
  const began = x(new Date(from)),
    ended = to ? x(new Date(to)) : x(now);
  if (began >= right || ended < 0) return [];
  const a = Math.max(began, 0);
  return [{ from: a, to: Math.min(Math.max(ended, a + 3), right) }];
}

/** The hatches that the strip's bars use; put once into each drawing. */
export function Hatches({ id }: { id: string }) {
  return (
    <defs>
      <pattern
        id={`${id}-miss`}
        width="4"
        height="4"
        patternUnits="userSpaceOnUse"
        patternTransform="rotate(45)"
      >
        <rect width="4" height="4" fill="var(--ground)" />
        <rect width="1.6" height="4" fill="var(--verm-mark)" />
      </pattern>
      <pattern id={`${id}-planned`} width="3" height="4" patternUnits="userSpaceOnUse">
        <rect width="3" height="4" fill="var(--ground)" />
        <rect width="1.4" height="4" fill="var(--violet)" />
      </pattern>
    </defs>
  );
}

function paint(a: Alert, id: string) {
  switch (a.verdict) {
    case "fault":
      return { fill: "var(--ink)" };
    case "noise":
      return { fill: "none", stroke: "var(--noise)" };
    case "planned":
      return { fill: `url(#${id}-planned)`, stroke: "var(--violet)" };
  }
  if (a.closed_at) return { fill: "none", stroke: "var(--ink2)", strokeDasharray: "3 2" };
  return { fill: a.severity === "critical" ? "var(--verm-mark)" : "var(--brass-mark)" };
}

/**
 * The two-lane strip: alerts stand on the line, incidents hang from it. Where
 * both overlap they are tied into one body (a hit); a lone alert is a false
 * alarm, a lone incident a miss.
 */
export function Strip({
  alerts,
  incidents,
  x,
  y,
  width,
  lane,
  now,
  id,
  onAlert,
}: {
  alerts: Alert[];
  incidents: Incident[];
  x: Scale;
  y: number;
  width: number;
  lane: number;
  now: number;
  id: string;
  onAlert?: (id: number) => void;
}) {
  const upper = alerts.flatMap((a) =>
    barOf(x, a.raised_at, a.ended_at && a.ended_at > a.raised_at ? a.ended_at : a.closed_at, now, width).map(
      (bar) => ({ a, bar }),
    ),
  );
  const lower = incidents.flatMap((i) =>
    barOf(x, i.started_at, i.ended_at, now, width).map((bar) => ({ i, bar })),
  );
  const middle = y + lane + 1;
  const ties = lower
    .flatMap(({ bar }) =>
      upper.map((u) => ({ from: Math.max(bar.from, u.bar.from), to: Math.min(bar.to, u.bar.to) })),
    )
    .filter((t) => t.to - t.from > 0);
  return (
    <g>
      <line x1={0} x2={width} y1={middle + 0.5} y2={middle + 0.5} stroke="var(--ink3)" />
      {lower.map(({ i, bar }) => {
        const hit = upper.some((u) => u.bar.from < bar.to && u.bar.to > bar.from);
        return (
          <rect
            key={i.id}
            x={bar.from}
            y={middle + 2}
            width={bar.to - bar.from}
            height={lane}
            fill={hit ? "var(--ink)" : `url(#${id}-miss)`}
            stroke={hit ? "none" : "var(--verm-mark)"}
          >
            <title>{`${i.title}: ${hit ? "told" : "missed"}`}</title>
          </rect>
        );
      })}
      {upper.map(({ a, bar }) => (
        <rect
          key={a.id}
          className="grow"
          x={bar.from}
          y={y}
          width={bar.to - bar.from}
          height={lane}
          {...paint(a, id)}
          cursor={onAlert ? "pointer" : undefined}
          onClick={() => onAlert?.(a.id)}
        >
          <title>{a.sentence}</title>
        </rect>
      ))}
      {ties.map((t, k) => (
        <rect
          key={k}
          x={t.from}
          y={middle - 2}
          width={t.to - t.from}
          height={lane > 6 ? 5 : 4}
          fill="var(--ink)"
        />
      ))}
    </g>
  );
}
