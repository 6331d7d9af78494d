import { type FormEvent, type ReactNode, useState } from "react";
import { Link } from "react-router";
import type { Order, Reconciliation } from "../../api/client";
import { useColumns, useDropReconciliation, useHealth, useMe, useMissingKeys, useReconcile, useReconciliations } from "../../api/queries";
import { Section } from "../../parts/Page";
import { count, duration, number, percent, time } from "../../parts/words";

const link = "underline decoration-pewter-line underline-offset-3";

/** With what a dataset is compared by the same aggregate, and where that is set up. */
export function Reconciled({ name, zone }: { name: string; zone: string }) {
  const all = useReconciliations(), me = useMe();
  const [adding, setAdding] = useState(false);
  const list = all.data?.filter((r) => r.up_dataset === name || r.down_dataset === name) ?? [];
  const may = me.data !== undefined && me.data.role !== "reader";
  if (!all.data || (list.length === 0 && !may)) return null;
  return (
    <Section className="mt-5" title="Reconciled" note="the share of the larger that the other stage lacks, as a monitor of its own"
      right={may && !adding ? <button className={link} onClick={() => setAdding(true)}>compare with another stage</button> : list.length > 0 && count(list.length, "comparison")}>
      {list.length > 0 && (
        <table className="mt-1 w-full border-collapse">
          <thead><tr><th className="py-1">monitor</th><th>first stage</th><th>second stage</th><th className="num">lag</th><th className="num">tolerance</th><th className="pl-6">compared to</th><th /></tr></thead>
          <tbody>{list.map((r) => <Row key={r.name} r={r} zone={zone} may={may} />)}</tbody>
        </table>
      )}
      {list.length === 0 && !adding && <p className="mt-2 text-ink2">With no other stage yet. What is made from it should hold as many rows, as large a sum, or the same keys.</p>}
      {adding && <Compare name={name} close={() => setAdding(false)} />}
    </Section>
  );
}

function Row({ r, zone, may }: { r: Reconciliation; zone: string; may: boolean }) {
  const drop = useDropReconciliation(), keys = useMissingKeys(r.name);
  const look = () => keys.mutate({ from: new Date(Date.parse(r.compared_to!) - 86_400_000).toISOString(), to: r.compared_to! });
  return (
    <>
      <tr className="h-[27px]">
        <td><Link to={`/monitors/${encodeURIComponent(r.metric)}`}>{r.name}</Link></td><td><code>{r.up_dataset}</code></td><td><code>{r.down_dataset}</code></td>
        <td className="num">{duration(r.lag_seconds)}</td><td className="num">{percent(r.tolerance)}</td>
        <td className="pl-6 text-ink2">{r.message ? <span className="text-verm">{r.message}</span> : r.compared_to ? time(r.compared_to, zone, "short") : "nothing yet"}</td>
        <td className="num whitespace-nowrap">
          {may && r.up_key && r.compared_to && <button className={`${link} mr-4`} disabled={keys.isPending} onClick={look}>{keys.isPending ? "looking" : "rows on one side"}</button>}
          {may && <button className={link} onClick={() => confirm(`End ${r.name}? Its monitor and alerts go with it.`) && drop.mutate(r.name)}>remove</button>}
        </td>
      </tr>
      {(keys.error || drop.error) && <tr><td colSpan={7} role="alert" className="text-verm">{(keys.error ?? drop.error)!.message}</td></tr>}
      {keys.data && (
        <tr><td colSpan={7} className="pb-2">
          {keys.data.sides!.map((s) => (
            <p key={s.dataset} className="mt-1"><code>{s.dataset}</code>: {s.missing === 0 ? `the other side has all of its ${count(s.rows, "key")} of the last day` : <><b className="font-[650]">{number(s.missing)}</b> of {count(s.rows, "key")} of the last day are not on the other side{segments(s.segments)}. <span className="text-ink2">{s.key}: {s.some!.slice(0, 12).join(", ")}{s.missing > 12 && ", …"}</span></>}</p>
          ))}
          <p className="mt-1 text-[13px] text-ink2">Not kept; the audit trail says that you looked.</p>
        </td></tr>
      )}
    </>
  );
}

const segments = (of: Record<string, number>) => {
  const named = Object.entries(of).filter(([s]) => s !== "").sort((a, b) => b[1] - a[1]);
  return named.length > 0 && `: ${named.slice(0, 5).map(([s, n]) => `${number(n)} of ${s}`).join(", ")}`;
};

const field = "w-full border border-ink3 bg-field px-2 py-[4px]";

const Field = ({ label, help, children }: { label: string; help?: string; children: ReactNode }) => (
  <label className="block"><span className="font-[650]">{label}</span>{help && <span className="ml-2 text-[13px] text-ink2">{help}</span>}<span className="mt-[2px] block">{children}</span></label>
);

/** Sets a comparison up; what was typed stays when it is refused. */
function Compare({ name, close }: { name: string; close: () => void }) {
  const set = useReconcile(), health = useHealth();
  const [other, setOther] = useState(""), [side, setSide] = useState("later"), [measure, setMeasure] = useState<"rows" | "sum" | "distinct">("rows");
  const own = useColumns(name).data?.[0]?.columns?.map((c) => c.name) ?? [], theirs = useColumns(other).data?.[0]?.columns?.map((c) => c.name) ?? [];
  const both = own.filter((c) => theirs.includes(c));
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget), text = (k: string) => String(f.get(k) ?? "");
    const mine = { dataset: name, column: text("own_column"), key: text("own_key") }, its = { dataset: other, column: text("other_column"), key: text("other_key") };
    const [up, down] = side === "later" ? [mine, its] : [its, mine];
    const order: Order = { up: up.dataset, down: down.dataset, measure, up_column: up.column, down_column: down.column, up_key: up.key, down_key: down.key, by: text("by") ? [text("by")] : [],
      lag_seconds: Number(text("lag")) * 60, tolerance: Number(text("tolerance")) / 100, owner: text("owner") };
    set.mutate(order, { onSuccess: close });
  };
  const columns = (list: string[], none: string) => <>{<option value="">{none}</option>}{list.map((c) => <option key={c}>{c}</option>)}</>;
  return (
    <form className="mt-2 grid max-w-[980px] grid-cols-3 gap-x-6 gap-y-3" aria-label="new reconciliation" onSubmit={submit}>
      <Field label="The other stage"><select required value={other} onChange={(e) => setOther(e.target.value)} className={field}>{columns((health.data ?? []).map((h) => h.dataset.name).filter((d) => d !== name), "choose a dataset")}</select></Field>
      <Field label="It comes"><select value={side} onChange={(e) => setSide(e.target.value)} className={field}><option value="later">after {name}</option><option value="earlier">before {name}</option></select></Field>
      <Field label="Lag" help="minutes until the second has the same"><input name="lag" type="number" min="0" max="10080" step="any" defaultValue="0" className={field} /></Field>
      <Field label="Compared by"><select value={measure} onChange={(e) => setMeasure(e.target.value as "rows")} className={field}><option value="rows">rows</option><option value="sum">the sum of a column</option><option value="distinct">different values of a column</option></select></Field>
      {measure !== "rows" && <Field label={`Column of ${name}`}><select required name="own_column" className={field}>{columns(own, "choose")}</select></Field>}
      {measure !== "rows" && <Field label={`Column of ${other || "the other"}`}><select required name="other_column" className={field}>{columns(theirs, "choose")}</select></Field>}
      <Field label="By segment" help="a column that both have"><select name="by" className={field}>{columns(both, "of the whole alone")}</select></Field>
      <Field label="Tolerance" help="% that never ring"><input name="tolerance" type="number" min="0" max="100" step="any" defaultValue="0" className={field} /></Field>
      <Field label={`Key of ${name}`} help="names a row"><select name="own_key" className={field}>{columns(own, "none: rows are only counted")}</select></Field>
      <Field label={`Key of ${other || "the other"}`} help="names the same row"><select name="other_key" className={field}>{columns(theirs, "none")}</select></Field>
      <Field label="Owner" help="of its monitor"><input name="owner" className={field} /></Field>
      <div className="col-span-3 flex items-center gap-3">
        <button disabled={set.isPending} className="border border-ink bg-brass-fill px-4 py-[4px] font-[650] text-on-brass">{set.isPending ? "Reading the known past" : "Compare"}</button>
        <button type="button" className="border border-ink px-3 py-[4px]" onClick={close}>Close</button>
        {set.error && <p role="alert" className="text-verm">{set.error.message}</p>}
      </div>
    </form>
  );
}
