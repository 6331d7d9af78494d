import { useState } from "react";
import { Link } from "react-router";
import type { Offered } from "../../api/client";
import { useMetrics, useTables } from "../../api/setup";
import { Reading, Section, Trouble } from "../../parts/Page";
import { bytes, count, number } from "../../parts/words";
import { MeasureTable } from "./MeasureTable";

/** The tables of a warehouse, those not measured yet first. */
export function Tables({ source }: { source: string }) {
  const tables = useTables(source), metrics = useMetrics();
  const [filter, setFilter] = useState("");
  const [chosen, choose] = useState<string>();
  const measured = (t: Offered) => (metrics.data ?? []).filter((m) => m.dataset === t.name).length;
  const list = (tables.data ?? []).filter((t) => t.name.toLowerCase().includes(filter.toLowerCase())).sort((a, b) => Math.sign(measured(a)) - Math.sign(measured(b)) || a.name.localeCompare(b.name));
  return (
    <Section className="mt-6" title={`Tables of ${source}`} note="that its login may read; time columns are proposed, best first" right={tables.data && count(tables.data.length, "table")}>
      <Trouble what="Tables" error={tables.error} />
      {tables.isPending && <Reading what="tables" />}
      {tables.data?.length === 0 && <p className="mt-2 text-ink2">This login may read no table. In the warehouse: <code>grant select on all tables in schema … to …</code></p>}
      {(tables.data?.length ?? 0) > 12 && <input aria-label="Filter tables" className="mt-2 w-72 border border-ink3 bg-field px-3 py-1" placeholder="filter by name" value={filter} onChange={(e) => setFilter(e.target.value)} />}
      <table className="mt-1 w-full border-collapse">
        <thead><tr><th className="py-1">table</th><th className="num">rows, about</th><th className="num pr-6">size</th><th>time columns</th><th>loaded by</th><th>measured</th><th /></tr></thead>
        <tbody>
          {list.map((t) => (
            <tr key={t.name} className="h-[27px]">
              <td className={chosen === t.name ? "font-bold" : ""}>{measured(t) ? <Link to={`/datasets/${t.name}`}><code>{t.name}</code></Link> : <code>{t.name}</code>}{t.kind !== "table" && <span className="ml-2 text-ink2">{t.kind}</span>}</td>
              <td className="num">{t.rows < 0 ? "not counted" : number(t.rows)}</td>
              <td className="num pr-6">{bytes(t.bytes)}</td>
              <td>{t.time_columns!.filter((c) => c !== t.loaded_by).join(", ") || <span className="text-ink3">none: measured as it stands</span>}</td>
              <td>{t.loaded_by || <span className="text-ink3">–</span>}</td>
              <td>{measured(t) ? count(measured(t), "metric") : <span className="text-ink3">not yet</span>}</td>
              <td className="num"><button className="underline decoration-pewter-line underline-offset-3" onClick={() => choose(chosen === t.name ? undefined : t.name)}>{chosen === t.name ? "close" : "measure"}</button></td>
            </tr>
          ))}
        </tbody>
      </table>
      {chosen && tables.data && <MeasureTable key={chosen} source={source} table={tables.data.find((t) => t.name === chosen)!} />}
    </Section>
  );
}
