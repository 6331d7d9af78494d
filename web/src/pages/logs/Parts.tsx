/** A sentence as it is read aloud: what varies left open. */
export const spoken = (text: string) => text.replaceAll(/<[a-z ]+>/g, "…");

/** A sentence, its variable parts set apart. */
export function Words({ text }: { text: string }) {
  return (
    <span className="font-mono text-[13px] break-words">
      {text.split(/(<[a-z ]+>)/).map((part, i) =>
        i % 2 === 1 ? (
          <span key={i} className="text-ink2 italic">
            {part.slice(1, -1)}
          </span>
        ) : (
          part
        ),
      )}
    </span>
  );
}

export const grave = (severity: string) =>
  severity === "ERROR" || severity === "FATAL"
    ? "text-verm font-[650]"
    : severity === "WARN"
      ? ""
      : "text-ink3";

/** Counts over a stretch as small bars from a common foot. */
export function Bars({
  counts,
  width = 120,
  height = 20,
}: {
  counts: number[];
  width?: number;
  height?: number;
}) {
  const most = Math.max(1, ...counts),
    each = width / Math.max(1, counts.length);
  return (
    <svg
      width={width}
      height={height}
      className="block"
      role="img"
      aria-label={`${counts.reduce((a, b) => a + b, 0)} lines, by time`}
    >
      <line x1={0} x2={width} y1={height - 0.5} y2={height - 0.5} className="stroke-rule" />
      {counts.map(
        (n, i) =>
          n > 0 && (
            <rect
              key={i}
              x={i * each}
              width={Math.max(1, each - 0.6)}
              y={height - 1 - Math.max(1.5, ((height - 2) * n) / most)}
              height={Math.max(1.5, ((height - 2) * n) / most)}
              className="fill-ink2"
            />
          ),
      )}
    </svg>
  );
}
