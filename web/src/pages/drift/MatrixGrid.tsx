import { scaleLinear } from "d3-scale";
import type { Matrix } from "../../api/client";
import { number, percent } from "../../parts/words";
import { brief, day, days, fill, measures } from "./says";

const label = 172,
  weight = 44,
  names = label + weight,
  limits = 58,
  top = 66,
  row = 33;

/**
 * Features by period. A cell says how much of its limit a feature has used; over the limit it carries the
 * figure.
 */
export function MatrixGrid({
  matrix,
  frame,
  setFrame,
  width,
}: {
  matrix: Matrix;
  frame: { row: number; column: number };
  setFrame: (f: { row: number; column: number }) => void;
  width: number;
}) {
  const periods = matrix.periods,
    rows = matrix.rows;
  const step = (width - names - limits) / Math.max(periods.length, 1);
  const x = (i: number) => names + i * step;
  const most = Math.max(
    0.2,
    ...periods.map((p) => Math.max(p.separability?.score ?? 0, Math.min(p.separability?.limit ?? 0, 1))),
  );
  const y = scaleLinear()
    .domain([0, most * 1.1])
    .range([46, 0]);
  const last = periods[periods.length - 1];
  const turn = periods.findIndex(
    (p, i) => i > 0 && p.versions.at(-1) !== periods[i - 1].versions.at(-1) && p.versions.length > 0,
  );
  const every = Math.ceil(periods.length / 8);
  const known = periods.map((p, i) => ({ p, i })).filter((e) => e.p.separability);
  return (
    <svg width={width} height={top + rows.length * row + 26} role="grid" aria-label="features by period">
      <defs>
        <pattern id="few" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" fill="var(--ground)" />
          <line y2="6" stroke="var(--pewter2)" strokeWidth="1.6" />
        </pattern>
      </defs>
      <text x="0" y="20" style={{ fontWeight: 650, fill: "var(--ink)" }}>
        separability
      </text>
      <text x="0" y="36">
        {last?.separability
          ? `${last.separability.limit.toFixed(2)} is the limit`
          : last?.message
            ? "too few rows"
            : ""}
      </text>
      <g transform="translate(0,8)">
        {y.ticks(2).map((t) => (
          <g key={t}>
            <line x1={names} x2={width - limits} y1={y(t)} y2={y(t)} stroke="var(--hair)" />
            {t > 0 && (
              <text x={names - 8} y={y(t) + 4} textAnchor="end">
                {number(t, 1)}
              </text>
            )}
          </g>
        ))}
        {known.map(({ p, i }) => (
          <rect
            key={p.from}
            x={x(i)}
            width={step}
            y={y(Math.min(p.separability.limit, most * 1.1))}
            height={46 - y(Math.min(p.separability.limit, most * 1.1))}
            fill="var(--pewter)"
          />
        ))}
        <polyline
          fill="none"
          stroke="var(--ink)"
          strokeWidth="1.4"
          points={known.map(({ p, i }) => `${x(i) + step / 2},${y(p.separability.score)}`).join(" ")}
        />
        {known.map(({ p, i }) => {
          const s = p.separability;
          return (
            <circle
              key={p.from}
              cx={x(i) + step / 2}
              cy={y(s.score)}
              r={step > 12 ? 2.8 : 1.6}
              fill={s.score > s.limit ? "var(--verm-mark)" : "var(--ink)"}
            >
              <title>
                {`${days(p.from, p.to, matrix.zone)}: separability ${s.score.toFixed(2)} ` +
                  `(${s.low.toFixed(2)} to ${s.high.toFixed(2)}), limit ${s.limit.toFixed(2)}`}
              </title>
            </circle>
          );
        })}
        <line x1={names} x2={width - limits} y1="46" y2="46" stroke="var(--ink)" />
        {last?.separability && (
          <text
            x={width - limits + 8}
            y={Math.min(44, y(last.separability.score) + 5)}
            style={{
              fontWeight: 650,
              fontSize: 14,
              fill: last.separability.score > last.separability.limit ? "var(--verm)" : "var(--ink)",
            }}
          >
            {last.separability.score.toFixed(2)}
          </text>
        )}
      </g>
      {periods.map(
        (p, i) =>
          p.state === "over" && (
            <rect
              key={p.from}
              x={x(i) + (step > 6 ? 1 : 0)}
              y={top - 5}
              width={Math.max(step - (step > 6 ? 2 : 0), 0.8)}
              height="3"
              fill="var(--verm-mark)"
            >
              <title>
                {`${days(p.from, p.to, matrix.zone)}: over as a whole, by a feature, ` +
                  "separability or a pair"}
              </title>
            </rect>
          ),
      )}
      {rows.map((r, i) => {
        const cell = r.cells[r.cells.length - 1];
        return (
          <g key={r.feature} role="row" transform={`translate(0,${top + i * row})`}>
            <text
              x="0"
              y="21"
              className="mono"
              style={{ fontSize: 12.5, fontWeight: cell?.state === "over" ? 650 : 400, fill: "var(--ink)" }}
            >
              {r.feature.length > 21 ? `${r.feature.slice(0, 20)}…` : r.feature}
            </text>
            {r.role === "" && (
              <g>
                <title>{`${percent(r.importance)} of what tells the last period's rows apart`}</title>
                <rect x={label} y="12" width={weight - 10} height="9" fill="transparent" />
                <rect
                  x={label}
                  y="13"
                  width={(weight - 10) * r.importance}
                  height="7"
                  fill="var(--pewter2)"
                />
              </g>
            )}
            {r.cells.map((c, k) => {
              const p = periods[k],
                framed = frame.row === i && frame.column === k;
              return (
                <g
                  key={p.from}
                  role="gridcell"
                  aria-selected={framed}
                  aria-label={
                    `${r.feature}, ${days(p.from, p.to, matrix.zone)}: ${c.state}` +
                    (c.state === "over" ? `, ${brief(c.value)}` : "")
                  }
                  data-cell={`${r.feature} ${k}`}
                  className="cursor-pointer"
                  onClick={() => setFrame({ row: i, column: k })}
                >
                  <title>
                    {c.state === "over" || c.state === "as expected"
                      ? `${r.feature}, ${days(p.from, p.to, matrix.zone)}: ` +
                        `${measures[c.by] ?? "nothing"} ${brief(c.value)}, limit ${brief(c.limit)}`
                      : `${r.feature}: ${c.why}`}
                  </title>
                  <rect
                    x={x(k) + (step > 6 ? 1 : 0)}
                    y="1"
                    width={Math.max(step - (step > 6 ? 2 : 0), 0.8)}
                    height={row - 2}
                    fill={fill(c)}
                  />
                  {c.state === "over" && c.ratio <= 2 && (
                    <rect
                      x={x(k) + 1}
                      y={row - 4}
                      width={Math.max(step - 2, 1)}
                      height="3"
                      fill="var(--verm-mark)"
                    />
                  )}
                  {c.state === "over" && step >= 30 && (
                    <text
                      x={x(k) + step / 2}
                      y="21"
                      textAnchor="middle"
                      style={{
                        fontWeight: 650,
                        fontSize: 11.5,
                        fill: c.ratio > 2 ? "var(--field)" : "var(--ink)",
                      }}
                    >
                      {brief(c.value)}
                    </text>
                  )}
                  {framed && (
                    <rect
                      x={x(k)}
                      y="0"
                      width={step}
                      height={row}
                      fill="none"
                      stroke="var(--ink)"
                      strokeWidth="2"
                    />
                  )}
                </g>
              );
            })}
            <text x={width} y="21" textAnchor="end">
              {cell && cell.limit > 0 ? brief(cell.limit) : "–"}
            </text>
          </g>
        );
      })}
      <text x={width} y={top - 6} textAnchor="end">
        limit
      </text>
      <text x={label + weight - 10} y={top - 6} textAnchor="end">
        importance
      </text>
      {turn > 0 && (
        <g>
          <line
            x1={x(turn)}
            x2={x(turn)}
            y1="0"
            y2={top + rows.length * row}
            stroke="var(--ink)"
            strokeWidth="1.4"
          />
          <text x={x(turn) - 5} y="10" textAnchor="end" style={{ fontWeight: 650, fill: "var(--ink)" }}>
            model {periods[turn].versions.at(-1)} from {day(periods[turn].from, matrix.zone)}
          </text>
        </g>
      )}
      {periods.map(
        (p, i) =>
          i % every === 0 && (
            <g key={p.from}>
              <line
                x1={x(i) + 0.5}
                x2={x(i) + 0.5}
                y1={top + rows.length * row}
                y2={top + rows.length * row + 5}
                stroke="var(--ink3)"
              />
              <text x={x(i) + 4} y={top + rows.length * row + 18}>
                {day(p.from, matrix.zone)}
              </text>
            </g>
          ),
      )}
    </svg>
  );
}

/** What the fillings mean. */
export function Legend() {
  const entries = [
    ["var(--well)", "under half its limit"],
    ["var(--pewter)", "half to 0.8"],
    ["var(--pewter2)", "to the limit"],
    ["var(--verm-wash)", "over"],
    ["var(--verm-mark)", "over twice"],
    ["url(#few)", "too few rows"],
  ];
  return (
    <div className="mt-1 flex flex-wrap gap-x-7 gap-y-1 text-[13px] text-ink2">
      {entries.map(([color, name]) => (
        <span key={name} className="flex items-center gap-2">
          <svg width="22" height="14" aria-hidden>
            <rect width="22" height="14" fill={color} />
            {name === "over" && <rect y="11" width="22" height="3" fill="var(--verm-mark)" />}
          </svg>
          {name}
        </span>
      ))}
    </div>
  );
}
