import type { ScaleTime } from "d3-scale";
import type { Note } from "../api/client";

/**
 * What people noted, as a pin at the top of the chart with a hairline below; the text where there is room.
 */
export function Notes({
  chart,
  x,
  inner,
  height,
  named,
}: {
  chart: { notes: Note[] | null };
  x: ScaleTime<number, number>;
  inner: number;
  height: number;
  named?: boolean;
}) {
  const shown = (chart.notes ?? [])
    .map((n) => ({ n, at: x(new Date(n.at)) }))
    .filter(({ at }) => at >= 0 && at <= inner)
    .sort((a, b) => a.at - b.at);
  return shown.map(({ n, at }, i) => {
    const room = (shown[i + 1]?.at ?? inner) - at - 10,
      fits = Math.floor(room / 6.4);
    return (
      <g key={n.id} data-note>
        <title>{`${n.text} (${n.author})`}</title>
        <line x1={at} x2={at} y1={6} y2={height} stroke="var(--ink3)" strokeDasharray="1 3" />
        <path d={`M${at - 3.5} 0H${at + 3.5}L${at} 6Z`} fill="var(--ink2)" />
        {named && fits > 6 && (
          <text x={at + 6} y={26} style={{ fill: "var(--ink2)", fontStyle: "italic" }}>
            {n.text.length > fits ? `${n.text.slice(0, fits - 1)}…` : n.text}
          </text>
        )}
      </g>
    );
  });
}
