import type { PairResult } from "../../api/client";

const w = 54,
  h = 34,
  left = 96,
  foot = 78;

/**
 * Shares of rows by the bins of two features. With what was expected, cells beyond three standard errors
 * of it carry a mark.
 */
export function HeatMap({
  title,
  table,
  pair,
  expected,
}: {
  title: string;
  table: number[][];
  pair: PairResult;
  expected?: number[][];
}) {
  const most = Math.max(...pair.reference.flat(), ...pair.period.flat(), 1e-9);
  const columns = table[0]?.length ?? 0;
  const far = (i: number, k: number) => {
    const e = expected?.[i]?.[k];
    return e
      ? (table[i][k] - e) / Math.sqrt(Math.max(e * (1 - e), 1e-9) * (1 / pair.rows + 1 / pair.reference_rows))
      : 0;
  };
  return (
    <figure>
      <figcaption className="mb-1 text-[13px] font-[650]">{title}</figcaption>
      <svg
        width={left + w * columns}
        height={h * table.length + foot}
        role="img"
        aria-label={`${pair.first} by ${pair.second}, ${title}`}
      >
        {table.map((line, i) => (
          <g key={i} transform={`translate(0,${i * h})`}>
            <text x={left - 6} y={h / 2 + 4} textAnchor="end">
              {short(pair.first_bins[i] ?? "", 15)}
            </text>
            {line.map((v, k) => {
              const z = far(i, k),
                mark = z > 3 ? "▲" : z < -3 ? "▽" : "";
              return (
                <g key={k}>
                  <title>
                    {`${pair.first} ${pair.first_bins[i]}, ${pair.second} ` +
                      `${pair.second_bins[k]}: ${(v * 100).toFixed(1)} ` +
                      "%" +
                      (expected
                        ? `, ${(expected[i][k] * 100).toFixed(1)} % if they went together as before`
                        : "")}
                  </title>
                  <rect
                    x={left + k * w + 1}
                    y="1"
                    width={w - 2}
                    height={h - 2}
                    style={{ fill: `color-mix(in srgb, var(--ink) ${3 + (35 * v) / most}%, var(--ground))` }}
                  />
                  {mark && (
                    <rect
                      x={left + k * w + 1.8}
                      y="1.8"
                      width={w - 3.6}
                      height={h - 3.6}
                      fill="none"
                      stroke="var(--verm-mark)"
                      strokeWidth="1.6"
                      strokeDasharray={z < 0 ? "3 2.5" : undefined}
                    />
                  )}
                  <text
                    x={left + k * w + w / 2}
                    y={h / 2 + 4}
                    textAnchor="middle"
                    style={{ fill: "var(--ink)", fontWeight: mark ? 650 : 400 }}
                  >
                    {mark}
                    {(v * 100).toFixed(v < 0.0995 ? 1 : 0)}
                  </text>
                </g>
              );
            })}
          </g>
        ))}
        {pair.second_bins.map((b, k) => {
          const x = left + k * w + w / 2 + 8,
            y = h * table.length + 13;
          return (
            <text key={k} x={x} y={y} textAnchor="end" transform={`rotate(-38 ${x} ${y})`}>
              {short(b, 14)}
            </text>
          );
        })}
      </svg>
    </figure>
  );
}

const short = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
