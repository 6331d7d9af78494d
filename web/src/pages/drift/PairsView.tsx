import { useState } from "react";
import type { PairResult } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { Section } from "../../parts/Page";
import { brief } from "./says";

/** Two features together, the period beside the reference: those that changed most. */
export function PairsView({ pairs, rows, message }: { pairs: PairResult[]; rows: string; message?: string }) {
  const [at, setAt] = useState(0);
  const p = pairs[Math.min(at, pairs.length - 1)];
  if (!p) return <p className="mt-4 text-ink2">{message || "No two features could be compared together: both need at least two values."}</p>;
  return (
    <div className="mt-4 grid grid-cols-[300px_minmax(0,1fr)] gap-8">
      <Section title="Pairs" note="changed most, beyond what each alone did">
        {pairs.map((one, i) => (
          <button key={`${one.first} ${one.second}`} aria-pressed={i === at} onClick={() => setAt(i)} className={`block w-full border-b border-hair py-[7px] text-left ${i === at ? "bg-well" : ""}`}>
            <span className="mono text-[13px] font-[650]">{one.first}</span> and <span className="mono text-[13px] font-[650]">{one.second}</span>
            <span className="flex justify-between text-[13px] text-ink2"><span>{brief(one.beyond)}, limit {brief(one.limit)}</span>{one.beyond > one.limit ? <Mark state="critical" word="over" /> : <Mark state="not due" word="as expected" />}</span>
          </button>
        ))}
        <p className="mt-3 text-ink2">{rows}</p>
      </Section>
      <Section title={`${p.first} and ${p.second}`} note="% of rows; darker is more, the right one says how much more or less than expected">
        <div className="mt-2 flex flex-wrap gap-8">
          <Heat title={`reference, ${p.reference_rows.toLocaleString("en")} rows`} table={p.reference!} pair={p} />
          <Heat title={`period, ${p.rows.toLocaleString("en")} rows`} table={p.period!} pair={p} against={p.reference!} />
        </div>
      </Section>
    </div>
  );
}

/** A heat map of shares; against another, cells that grew or shrank by a half carry a mark. */
function Heat({ title, table, pair, against }: { title: string; table: (number[] | null)[]; pair: PairResult; against?: (number[] | null)[] }) {
  const rows = table as number[][], before = against as number[][] | undefined;
  const most = Math.max(...(before ?? rows).flat(), ...rows.flat(), 1e-9);
  const w = 58, h = 34, left = 104;
  const short = (t: string) => (t.length > 15 ? `${t.slice(0, 14)}…` : t);
  return (
    <figure>
      <figcaption className="mb-1 text-[13px] font-[650]">{title}</figcaption>
      <svg width={left + w * (rows[0]?.length ?? 0)} height={h * rows.length + 74} role="img" aria-label={`${pair.first} by ${pair.second}, ${title}`}>
        {rows.map((line, i) => (
          <g key={i} transform={`translate(0,${i * h})`}>
            <text x={left - 6} y={h / 2 + 4} textAnchor="end">{short(pair.first_bins![i] ?? "")}</text>
            {line.map((v, k) => {
              const was = before?.[i]?.[k];
              const grew = was !== undefined && v > 1.5 * was + 0.004, shrank = was !== undefined && v < was / 1.5 - 0.004;
              return (
                <g key={k}>
                  <title>{`${pair.first} ${pair.first_bins![i]}, ${pair.second} ${pair.second_bins![k]}: ${(v * 100).toFixed(1)} %${was === undefined ? "" : `, ${(was * 100).toFixed(1)} % before`}`}</title>
                  <rect x={left + k * w + 1} y="1" width={w - 2} height={h - 2} fill="var(--ink)" fillOpacity={0.06 + (0.62 * v) / most} />
                  <text x={left + k * w + w / 2} y={h / 2 + 4} textAnchor="middle" style={{ fill: v / most > 0.55 ? "var(--ground)" : "var(--ink)", fontWeight: grew || shrank ? 650 : 400 }}>{grew ? "▲" : shrank ? "▽" : ""}{(v * 100).toFixed(v < 0.1 ? 1 : 0)}</text>
                  {(grew || shrank) && <rect x={left + k * w + 2} y="2" width={w - 4} height={h - 4} fill="none" stroke="var(--verm-mark)" strokeWidth="1.6" strokeDasharray={shrank ? "3 2.5" : undefined} />}
                </g>
              );
            })}
          </g>
        ))}
        {(pair.second_bins ?? []).map((b, k) => <text key={k} x={left + k * w + w / 2} y={h * rows.length + 14} textAnchor="end" transform={`rotate(-35 ${left + k * w + w / 2} ${h * rows.length + 14})`}>{short(b)}</text>)}
      </svg>
    </figure>
  );
}
