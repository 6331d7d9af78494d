import { scaleLinear, scaleTime } from "d3-scale";
import { type PointerEvent, useRef, useState } from "react";
import { time } from "../parts/words";

/**
 * A line over some days on which a stretch is picked by dragging between two brass handles'
 * places; everything below narrows to it. Esc or a double click lets go.
 */
export function Brush({
  from,
  to,
  heights,
  period,
  zone,
  picked,
  onPick,
  width,
  label,
}: {
  from: number;
  to: number;
  heights: number[];
  period: number;
  zone: string;
  picked?: readonly [number, number];
  onPick: (p?: [number, number]) => void;
  width: number;
  label: string;
}) {
  const left = 1,
    height = 46,
    base = 30;
  const x = scaleTime()
    .domain([from, to])
    .range([left, width - 1]);
  const y = scaleLinear()
    .domain([0, Math.max(...heights, 1)])
    .range([base, 5]);
  const begun = useRef<number>(undefined);
  const stretch = useRef<[number, number]>(undefined); // of the drag, ahead of the next drawing
  const [drag, show] = useState<[number, number]>();
  const setDrag = (s?: [number, number]) => {
    stretch.current = s;
    show(s);
  };
  const at = (e: PointerEvent<SVGSVGElement>) => {
    const px = e.clientX - e.currentTarget.getBoundingClientRect().left;
    const t = x.invert(Math.min(Math.max(px, left), width - 1)).getTime();
    return Math.round(t / period) * period;
  };
  const shown = drag ?? picked;
  const finish = () => {
    if (stretch.current && stretch.current[1] > stretch.current[0]) onPick(stretch.current);
    else if (begun.current !== undefined) onPick(undefined);
    begun.current = undefined;
    setDrag(undefined);
  };
  const move = (by: number) => picked && onPick([picked[0] + by * period, picked[1] + by * period]);
  const ticks = x.ticks(Math.min(7, Math.floor(width / 90)));
  return (
    <svg
      width={width}
      height={height}
      tabIndex={0}
      role="slider"
      aria-label={label}
      aria-valuetext={shown ? `${time(shown[0], zone)} to ${time(shown[1], zone)}` : "all of it"}
      aria-valuenow={shown?.[0] ?? from}
      aria-valuemin={from}
      aria-valuemax={to}
      className="block cursor-crosshair touch-none select-none"
      data-brush
      onPointerDown={(e) => {
        e.currentTarget.setPointerCapture(e.pointerId);
        begun.current = at(e);
        setDrag([begun.current, begun.current]);
      }}
      onPointerMove={(e) =>
        begun.current !== undefined &&
        setDrag([Math.min(begun.current, at(e)), Math.max(begun.current, at(e))])
      }
      onPointerUp={finish}
      onDoubleClick={() => onPick(undefined)}
      onKeyDown={(e) => {
        if (e.key === "Escape") onPick(undefined);
        if (e.key === "ArrowLeft") move(-1);
        if (e.key === "ArrowRight") move(1);
      }}
    >
      {shown && (
        <rect
          x={x(shown[0])}
          width={Math.max(x(shown[1]) - x(shown[0]), 1)}
          y={2}
          height={base - 2}
          fill="var(--well)"
        />
      )}
      {heights.map((h, i) => {
        const x0 = x(from + i * period);
        return (
          h > 0 && (
            <rect
              key={i}
              x={x0}
              width={Math.max(x(from + (i + 1) * period) - x0 - 0.6, 0.6)}
              y={y(h)}
              height={base - y(h)}
              fill={
                !shown || (from + i * period >= shown[0] && from + i * period < shown[1])
                  ? "var(--ink2)"
                  : "var(--pewter-line)"
              }
              opacity={!shown || (from + i * period >= shown[0] && from + i * period < shown[1]) ? 1 : 0.45}
            />
          )
        );
      })}
      <line x1={left} x2={width - 1} y1={base} y2={base} stroke="var(--ink)" />
      {ticks.map((t) => (
        <text key={+t} x={Math.min(x(t) + 3, width - 70)} y={height - 4}>
          {time(t, zone, "day")}
        </text>
      ))}
      {ticks.map((t) => (
        <line key={+t} x1={x(t)} x2={x(t)} y1={base} y2={base + 8} stroke="var(--ink3)" />
      ))}
      {shown?.map((t, i) => (
        <path
          key={i}
          transform={`translate(${x(t)},${base})`}
          d="M-5 -6H5V2L0 8L-5 2Z"
          fill="var(--brass-fill)"
          stroke="var(--ink)"
        />
      ))}
    </svg>
  );
}
