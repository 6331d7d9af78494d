import type { Figure } from "../api/client";

/** An estimate on 0..1 as a tick on its 95 % interval. */
export function Interval({ figure, width = 116 }: { figure: Figure; width?: number }) {
  const x = (v: number) => 1 + v * (width - 2);
  return (
    <svg
      width={width}
      height={14}
      className="inline-block align-middle"
      role="img"
      aria-label={
        figure.estimate === null
          ? "unknown"
          : `${figure.estimate.toFixed(2)}, between ${figure.low?.toFixed(2)} and ${figure.high?.toFixed(2)}`
      }
    >
      <line x1={0} x2={width} y1={7} y2={7} stroke="var(--hair)" />
      {figure.estimate !== null && (
        <>
          <rect
            x={x(figure.low ?? 0)}
            width={Math.max(x(figure.high ?? 1) - x(figure.low ?? 0), 1)}
            y={3.5}
            height={7}
            fill="var(--pewter2)"
          />
          <rect x={x(figure.estimate) - 1} width={2} y={1} height={12} fill="var(--ink)" />
        </>
      )}
    </svg>
  );
}

/** A deviation on −3..+3 over the ribbon of the band. */
export function DeviationMark({ value }: { value: number | null | undefined }) {
  const x = (v: number) => 40 + Math.max(-3, Math.min(3, v)) * 14;
  const beyond = value !== null && value !== undefined && Math.abs(value) > 1;
  return (
    <svg width={84} height={16} aria-hidden className="inline-block align-middle">
      <rect x={x(-1)} width={28} y={1} height={14} fill="var(--pewter)" />
      <line x1={40.5} x2={40.5} y1={1} y2={15} stroke="var(--pewter-line)" strokeDasharray="2 2" />
      {value !== null && value !== undefined && (
        <>
          <line
            x1={40}
            x2={x(value)}
            y1={8}
            y2={8}
            stroke={beyond ? "var(--verm-mark)" : "var(--ink)"}
            strokeWidth="1.5"
          />
          <circle cx={x(value)} cy={8} r="3" fill={beyond ? "var(--verm-mark)" : "var(--ink)"} />
        </>
      )}
    </svg>
  );
}
