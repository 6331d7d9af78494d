import { Dialog } from "radix-ui";
import { type FormEvent, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Incident } from "../api/client";
import { useChangeIncident, useDropIncident, useMergeIncidents, useSplitIncident } from "../api/learning";
import { type NewIncident, useAddIncident, useHealth, useImportIncidents, useIncidents, useScorecard } from "../api/queries";
import { Pick } from "../parts/Controls";
import { Mark } from "../parts/Mark";
import { Page, Reading, Trouble } from "../parts/Page";
import { duration, time, word } from "../parts/words";
import { download } from "./save";

export function IncidentsPage() {
  const incidents = useIncidents();
  const score = useScorecard();
  const health = useHealth();
  const [adding, setAdding] = useState(false);
  const [search, setSearch] = useSearchParams();
  const filter = search.get("show") ?? "";
  const setFilter = (show: string) => setSearch(show ? { show } : {}, { replace: true });
  const [marked, setMarked] = useState<string[]>([]);
  const [editing, edit] = useState<Incident>();
  const merge = useMergeIncidents();
  const missed = new Set(score.data?.missed ?? []);
  const judgedFrom = score.data ? Date.parse(score.data.from) : Infinity;
  const state = (i: Incident) => (Date.parse(i.started_at) < judgedFrom ? null : missed.has(i.reference) ? "missed" : "told");
  const list = (incidents.data ?? []).filter((i) => `${i.reference} ${i.title} ${i.dataset} ${i.also!.join(" ")} ${i.segment} ${i.cause}`.toLowerCase().includes(filter.toLowerCase()));
  const n = incidents.data?.length ?? 0;
  const keys = { A: { does: "add", act: () => setAdding(true) } };
  return (
    <Page place="Incidents" keys={keys} sentence={incidents.data ? (n === 0 ? "The catalogue is empty." : `${word(n)} incidents are on record; of the ${score.data?.overall.recall.n ?? 0} since judging began, ${missed.size === 0 ? "every one was told" : `${word(missed.size).toLowerCase()} reached nobody`}.`) : ""}
      after="A miss stands out: it is what recall is counted from.">
      <Trouble what="Incidents" error={incidents.error} />
      <div className="mt-3 flex items-center gap-4">
        <input aria-label="Filter" className="w-72 border border-ink3 bg-field px-3 py-1" placeholder="filter by title, dataset, cause" value={filter} onChange={(e) => setFilter(e.target.value)} />
        <AddIncident open={adding} setOpen={setAdding} datasets={(health.data ?? []).map((h) => h.dataset.name)} />
        <Import />
        <button className="border border-ink px-4 py-1" onClick={() => download("incidents.csv", new Blob([asCSV(list)], { type: "text/csv" }))}>Export {list.length === n ? "all" : list.length}</button>
        {marked.length > 1 && <button className="underline decoration-pewter-line underline-offset-3" disabled={merge.isPending} onClick={() => merge.mutate(marked, { onSuccess: () => setMarked([]) })}>make one of the {marked.length} marked, called {marked[0]}</button>}
        {merge.error && <span role="alert" className="text-verm">{merge.error.message}</span>}
      </div>
      {editing && <EditIncident key={editing.reference} i={editing} close={() => edit(undefined)} />}
      {incidents.isPending && <Reading what="incidents" />}
      <table className="mt-3 w-full border-collapse border-t border-ink">
        <thead><tr className="border-b border-rule"><th className="w-7 py-1" /><th>reference</th><th>what happened</th><th>dataset</th><th>segment</th><th>began</th><th>lasted</th><th>cause</th><th>severity</th><th>told</th><th /></tr></thead>
        <tbody>
          {list.map((i) => {
            const s = state(i);
            return (
              <tr key={i.id} className={`h-[31px] ${s === "missed" ? "bg-verm-wash" : ""}`}>
                <td><input type="checkbox" aria-label={`mark ${i.reference}`} checked={marked.includes(i.reference)} onChange={() => setMarked(marked.includes(i.reference) ? marked.filter((r) => r !== i.reference) : [...marked, i.reference])} className="accent-[var(--ink)]" /></td>
                <td>{i.reference}</td><td><span className="font-semibold">{i.title}</span>{(i.impact || i.downstream) && <span className="block text-[13px] text-ink2">{i.impact}{i.downstream && " (what reads it is hit too)"}</span>}</td>
                <td><Link to={`/datasets/${i.dataset}`}><code>{i.dataset}</code></Link>{i.also!.map((d) => <span key={d} className="block"><Link to={`/datasets/${d}`}><code>{d}</code></Link></span>)}</td><td>{i.segment || "–"}</td>
                <td className="whitespace-nowrap">{time(i.started_at, i.zone)}</td>
                <td className="whitespace-nowrap">{i.ended_at ? duration((Date.parse(i.ended_at) - Date.parse(i.started_at)) / 1000) : "lasting"}</td>
                <td>{i.cause || "–"}</td><td><Mark state={i.severity as "warning"} /></td>
                <td>{s ? <Mark state={s} /> : <span className="text-ink3">before judging</span>}</td>
                <td className="num"><button className="underline decoration-pewter-line underline-offset-3" onClick={() => edit(i)}>edit</button></td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {incidents.data && list.length === 0 && <p className="mt-3 text-ink2">{n ? "Nothing fits the filter." : "Add the faults you remember: recall is counted from them."}</p>}
    </Page>
  );
}

const columns = ["reference", "dataset", "title", "started_at", "ended_at", "measure", "segment", "cause", "severity", "note", "author", "known_at", "impact", "downstream", "also"] as const;
const quoted = (text: string) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
const asCSV = (list: Incident[]) => [columns.join(","), ...list.map((i) => columns.map((c) => quoted(c === "also" ? i.also!.join("; ") : String(i[c] ?? ""))).join(","))].join("\n") + "\n";

/** A time as a field of this browser takes it. */
const local = (at: string | null) => (at ? new Date(Date.parse(at) - new Date(at).getTimezoneOffset() * 60_000).toISOString().slice(0, 16) : "");

/** What is said of an incident: changed, cut in two, or removed. */
function EditIncident({ i, close }: { i: Incident; close: () => void }) {
  const change = useChangeIncident(), split = useSplitIncident(), drop = useDropIncident();
  const [at, setAt] = useState("");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget);
    const text = (name: string) => (f.get(name) as string) || undefined;
    const when = (name: string, was: string | null) => (text(name) === undefined ? undefined : text(name) === local(was) ? was! : new Date(text(name)!).toISOString());
    change.mutate({ reference: i.reference, dataset: i.dataset, measure: i.measure || undefined, segment: text("segment"), title: text("title") ?? "", started_at: when("started", i.started_at) ?? i.started_at, ended_at: when("ended", i.ended_at),
      cause: text("cause"), severity: f.get("critical") ? "critical" : "warning", impact: text("impact"), note: text("note"), downstream: f.get("downstream") !== null, also: (text("also") ?? "").split(/[\s,;]+/).filter(Boolean) }, { onSuccess: close });
  };
  const wrong = change.error ?? split.error ?? drop.error;
  return (
    <form onSubmit={submit} className="mt-3 border border-ink bg-well p-4" aria-label={`edit ${i.reference}`}>
      <div className="grid grid-cols-[minmax(0,2fr)_minmax(0,1fr)_minmax(0,1fr)_minmax(0,1fr)] gap-3">
        <label>{i.reference}: what happened<input name="title" required defaultValue={i.title} className={field} /></label>
        <label>Began, in {Intl.DateTimeFormat().resolvedOptions().timeZone}<input name="started" type="datetime-local" required defaultValue={local(i.started_at)} className={field} /></label>
        <label>Ended, if it has<input name="ended" type="datetime-local" defaultValue={local(i.ended_at)} className={field} /></label>
        <label>Segment, if only one<input name="segment" defaultValue={i.segment} className={field} /></label>
        <label>What it did to whom<input name="impact" defaultValue={i.impact} className={field} /></label>
        <label>Cause<input name="cause" defaultValue={i.cause} className={field} /></label>
        <label>Other datasets that it hit<input name="also" defaultValue={i.also!.join(", ")} className={field} /></label>
        <label>Note<input name="note" defaultValue={i.note} className={field} /></label>
      </div>
      <div className="mt-3 flex flex-wrap items-center gap-5">
        <label className="flex items-baseline gap-2"><input type="checkbox" name="critical" defaultChecked={i.severity === "critical"} className="accent-[var(--ink)]" />critical</label>
        <label className="flex items-baseline gap-2"><input type="checkbox" name="downstream" defaultChecked={i.downstream} className="accent-[var(--ink)]" />what reads the dataset is hit too</label>
        <button className="border border-ink bg-brass-fill px-4 py-1 font-[650] text-on-brass" disabled={change.isPending}>Save</button>
        <button type="button" className="border border-ink px-4 py-1" onClick={close}>Cancel</button>
        <span className="ml-auto flex items-center gap-2">split at <input aria-label="Split at" type="datetime-local" value={at} onChange={(e) => setAt(e.target.value)} className="border border-ink3 bg-field px-2 py-1" /><button type="button" disabled={!at || split.isPending} className="underline decoration-pewter-line underline-offset-3 disabled:text-ink3" onClick={() => split.mutate({ reference: i.reference, at: new Date(at).toISOString() }, { onSuccess: close })}>split</button></span>
        <button type="button" className="text-verm underline underline-offset-3" onClick={() => drop.mutate(i.reference, { onSuccess: close })}>remove</button>
      </div>
      {wrong && <p role="alert" className="mt-2 text-verm">{wrong.message}</p>}
    </form>
  );
}

/** Takes a catalogue as CSV and says what became of it. */
function Import() {
  const load = useImportIncidents();
  return (
    <>
      <label className="cursor-pointer border border-ink px-4 py-1 focus-within:outline-2 focus-within:outline-brass-text">Import CSV
        <input type="file" accept=".csv,text/csv" className="sr-only" onChange={(e) => e.target.files?.[0] && load.mutate(e.target.files[0])} />
      </label>
      <span role="status" className="text-[13px] text-ink2">
        {load.error && <span className="text-verm">{load.error.message}</span>}
        {load.data && `${load.data.added} added, ${load.data.replaced} replaced, ${load.data.refused} lines refused${load.data.problems!.length ? `: line ${load.data.problems![0].line}, ${load.data.problems![0].reason}` : ""}`}
      </span>
    </>
  );
}

const field = "w-full border border-ink3 bg-field px-3 py-1";

function AddIncident({ open, setOpen, datasets }: { open: boolean; setOpen: (v: boolean) => void; datasets: string[] }) {
  const add = useAddIncident();
  const [dataset, setDataset] = useState("");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget);
    const text = (name: string) => (f.get(name) as string) || undefined;
    const at = (name: string) => (text(name) ? new Date(text(name)!).toISOString() : undefined);
    const body: NewIncident = { dataset, title: text("title") ?? "", started_at: at("started") ?? "", ended_at: at("ended"), segment: text("segment"), cause: text("cause"), also: (text("also") ?? "").split(/[\s,;]+/).filter(Boolean) };
    add.mutate(body, { onSuccess: () => setOpen(false) });
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="border border-ink bg-brass-fill px-4 py-1 font-[650] text-on-brass">Add an incident</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ground opacity-80" />
        <Dialog.Content className="fixed top-20 left-1/2 w-[460px] -translate-x-1/2 border border-ink bg-ground p-6" aria-describedby={undefined}>
          <Dialog.Title className="text-[15px] font-[650]">A fault that did happen</Dialog.Title>
          <form onSubmit={submit} className="mt-3 grid gap-3">
            <label>Dataset
              <Pick name="Dataset" value={dataset} options={datasets.map((d) => [d, d] as const)} onChange={setDataset} hint="choose" />
            </label>
            <label>What happened<input name="title" required className={field} /></label>
            <div className="grid grid-cols-2 gap-3">
              <label>Began, in {Intl.DateTimeFormat().resolvedOptions().timeZone}<input name="started" type="datetime-local" required className={field} /></label>
              <label>Ended, if it has<input name="ended" type="datetime-local" className={field} /></label>
              <label>Segment, if only one<input name="segment" className={field} /></label>
              <label>Cause<input name="cause" className={field} /></label>
            </div>
            <label>Other datasets that it hit, if any<input name="also" className={field} /></label>
            {add.error && <p role="alert" className="border-t border-verm pt-2 text-verm">{add.error.message}</p>}
            <div className="flex gap-3">
              <button className="border border-ink bg-brass-fill px-4 py-1 font-[650] text-on-brass" disabled={add.isPending}>Add</button>
              <Dialog.Close className="border border-ink px-4 py-1">Cancel</Dialog.Close>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
