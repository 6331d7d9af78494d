import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { useColumns } from "../../api/queries";
import { Choice } from "../../parts/Controls";
import { number, signed, time } from "../../parts/words";

const numeric = /^(smallint|integer|bigint|real|double precision|numeric)/;
const field = "border border-ink3 bg-field px-2 py-[2px]";

/** Which rows of the table stand out by a column, and the SQL that finds them. Looked up when asked: it reads rows, and the audit trail says so. */
export function StandOut({ dataset }: { dataset: string }) {
  const columns = useColumns(dataset);
  const known = columns.data?.[0]?.columns ?? [];
  const numbers = known.filter((c) => numeric.test(c.type)).map((c) => c.name);
  const [column, setColumn] = useState(""), [key, setKey] = useState(""), [days, setDays] = useState<"1" | "7" | "28">("7");
  const chosen = column || numbers.find((c) => c !== "id" && !c.endsWith("_id")) || numbers[0];
  const look = useMutation({
    mutationFn: () => answer(api.POST("/api/v1/datasets/{name}/outliers", { params: { path: { name: dataset } }, body: { column: chosen, key: key || undefined, limit: 8, from: new Date(Date.now() - Number(days) * 86_400_000).toISOString() } })),
  });
  if (numbers.length === 0) return <p className="mt-2 text-ink2">No column with numbers is known of this table.</p>;
  const found = look.data, odd = (found?.studies ?? []).flatMap((s) => (s.odd ?? []).map((o) => ({ ...o, zone: s.zone }))).slice(0, 20);
  return (
    <>
      <div className="mt-2 flex flex-wrap items-center gap-x-4 gap-y-2 text-[13px]">
        <label>column <select aria-label="Column" className={field} value={chosen} onChange={(e) => setColumn(e.target.value)}>{numbers.map((c) => <option key={c}>{c}</option>)}</select></label>
        <label>each value of <select aria-label="Key" className={field} value={key} onChange={(e) => setKey(e.target.value)}><option value="">none: all rows together</option>{known.filter((c) => c.name !== chosen).map((c) => <option key={c.name}>{c.name}</option>)}</select></label>
        <Choice name="Days of rows" value={days} options={[["1", "1 d"], ["7", "7 d"], ["28", "28 d"]]} onChange={setDays} />
        <button className="border border-ink px-3 py-[2px] disabled:border-ink3 disabled:text-ink3" disabled={look.isPending} onClick={() => look.mutate()}>{look.isPending ? "reading rows" : "look"}</button>
        <span className="text-ink2">Rows are read in the warehouse and not kept; the audit trail says who looked.</span>
      </div>
      {look.error && <p role="alert" className="mt-2 text-verm">{look.error.message}</p>}
      {found && (
        <div data-stand-out>
          <p className="mt-2">{found.studies!.length === 1 ? found.studies![0].sentence : odd.length === 0 ? `Nothing stands out of ${number(found.rows)} rows.` : `Rows of ${number(found.studies!.filter((s) => s.odd!.length > 0).length)} of ${number(found.studies!.length)} values of ${key} stand out.`}{found.more && ` Only the newest ${number(found.rows)} rows were looked at.`}</p>
          {odd.length > 0 && (
            <table className="mt-1 w-full border-collapse">
              <thead><tr className="border-b border-rule"><th className="py-1">when</th>{key && <th>{key}</th>}<th className="num">{found.column}</th><th className="num">usual</th><th className="num">modified z</th><th className="pl-4">by</th></tr></thead>
              <tbody>{odd.map((o, i) => <tr key={i} className="h-[25px]"><td className="whitespace-nowrap">{o.at && time(o.at, o.zone)}</td>{key && <td>{o.place || "(none)"}</td>}<td className="num">{number(o.value)}</td><td className="num text-ink2">{number(o.usual)}</td><td className="num">{o.modified_z === null ? "–" : signed(o.modified_z)}</td><td className="pl-4 text-[13px] text-ink2">{o.rules!.join(", ")}</td></tr>)}</tbody>
            </table>
          )}
          {found.sql && <pre className="mt-2 overflow-x-auto bg-well px-3 py-2 text-[12.5px]"><code>{found.sql}</code></pre>}
        </div>
      )}
    </>
  );
}
