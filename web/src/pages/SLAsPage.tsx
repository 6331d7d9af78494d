import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import type { Promised } from "../api/client";
import { useHealth, useMe } from "../api/queries";
import { useDropPromise, usePromises, useSetPromise } from "../api/telling";
import { Mark } from "../parts/Mark";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { city, count, number, percent, time, word } from "../parts/words";

const clock = (minute: number) => (minute === 1440 ? "24:00" : `${String(Math.floor(minute / 60) % 24).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}`);

const minute = (text: string) => {
  const [h, m] = text.split(":").map(Number);
  return h * 60 + m;
};

function sentence(list: Promised[]): string {
  if (list.length === 0) return "Nothing is promised yet: say how much is due by when.";
  const of = (s: string) => list.filter((p) => p.standing === s);
  const parts = [["missed", "is missed", "are missed"], ["behind", "is behind", "are behind"], ["on pace", "is on pace", "are on pace"], ["met", "is met", "are met"], ["not due", "is not due today", "are not due today"]] as const;
  const said = parts.filter(([s]) => of(s).length > 0).map(([s, one, many]) => `${of(s).length === list.length ? "all" : word(of(s).length).toLowerCase()} ${of(s).length === 1 ? one : many}`);
  const first = of("missed")[0] ?? of("behind")[0];
  return `Of ${count(list.length, "promise")} ${said.join(", ")}${first ? `: ${first.sentence.replace(/^\S+ is (missed|behind): /, `${first.name}, `)}` : ""}.`;
}

/** What was promised by when: how it stands, how likely it is met, how it was kept. */
export function SLAsPage() {
  const promises = usePromises(), me = useMe();
  const list = [...(promises.data ?? [])].sort((a, b) => rank(a) - rank(b) || a.name.localeCompare(b.name));
  const [adding, setAdding] = useState(false);
  const keys = { A: { does: "add", act: () => setAdding(true) } };
  const months = [...new Set(list.flatMap((p) => p.months!.map((m) => m.month)))].sort().slice(-6);
  return (
    <Page place="SLAs" keys={keys} sentence={promises.data ? sentence(list) : ""} after="At least so many rows, loads or files within a window. The chance is learned from how such days went on.">
      <Trouble what="SLAs" error={promises.error} />
      {promises.isPending && <Reading what="SLAs" />}
      <div className="mt-4 grid grid-cols-[minmax(0,1fr)_320px] gap-8">
        <Section title="Now" note="the window that is open, or was last">
          {list.map((p) => <Standing key={p.name} p={p} now={me.data ? Date.parse(me.data.now) : Date.now()} />)}
          {promises.data && list.length === 0 && <p className="mt-2 text-ink2">For example: five partners' files by 06:30 on weekdays.</p>}
        </Section>
        <Add open={adding || list.length === 0} setOpen={setAdding} />
      </div>
      {list.length > 0 && (
        <Section className="mt-6" title="Kept" note="windows met of those that were due, by month; each tick is a window of the last thirty">
          <table className="mt-1 w-full border-collapse">
            <thead><tr><th className="py-1">sla</th><th>dataset</th>{months.map((m) => <th key={m} className="num">{m}</th>)}<th className="num">in all</th><th className="pl-8">the last thirty, oldest first</th></tr></thead>
            <tbody>
              {list.map((p) => {
                const met = p.months!.reduce((n, m) => n + m.met, 0), due = p.months!.reduce((n, m) => n + m.due, 0);
                return (
                  <tr key={p.name} className="h-[31px]">
                    <td className="font-semibold">{p.name}</td><td><Link to={`/datasets/${p.dataset}`}><code>{p.dataset}</code></Link></td>
                    {months.map((m) => { const v = p.months!.find((x) => x.month === m); return <td key={m} className={`num ${v && v.met < v.due ? "font-[650]" : "text-ink2"}`}>{v ? `${v.met} of ${v.due}` : "–"}</td>; })}
                    <td className="num font-[650]">{due ? percent(met / due) : "–"}</td>
                    <td className="pl-8"><Ticks p={p} /></td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </Section>
      )}
    </Page>
  );
}

const rank = (p: Promised) => ["missed", "behind", "on pace", "met", "not due"].indexOf(p.standing);

/** A window as a bar: how much came, how much is due, where now is. */
function Standing({ p, now }: { p: Promised; now: number }) {
  const drop = useDropPromise();
  const from = Date.parse(p.window_from), to = Date.parse(p.window_to);
  const share = Math.min(p.have / p.at_least, 1), gone = Math.min(Math.max((now - from) / (to - from), 0), 1);
  const open = p.standing === "on pace" || p.standing === "behind";
  return (
    <article data-sla={p.name} className="grid grid-cols-[110px_minmax(0,1fr)_minmax(220px,34%)] gap-4 border-b border-rule py-[9px] last:border-0">
      <div><Mark state={p.standing as "met"} word={p.standing} />{p.paused && <div className="text-ink2">paused</div>}</div>
      <div>
        <span className="text-[15px] font-[650]">{p.name}</span>: {number(p.at_least)} {p.counts}{p.segment && ` of ${p.segment}`} {p.from_minute ? `from ${clock(p.from_minute)} to` : "by"} {clock(p.to_minute)}, {p.days === "mon-sun" ? "daily" : p.days}
        <div className="mt-[2px] text-ink2"><Link to={`/datasets/${p.dataset}`}><code>{p.dataset}</code></Link>{p.owner && `, ${p.owner}`}; times in {city(p.zone)}</div>
        <div className="mt-[2px] text-ink2">{open ? <>{percent(p.probability)} sure to make it{p.learned_from > 0 ? `, from ${count(p.learned_from, "such day")}` : "; no such day is known yet"}</> : p.standing === "met" ? `met ${time(p.met_at!, p.zone)}` : `window ended ${time(p.window_to, p.zone)}`}{!open && p.next_to && `; next by ${time(p.next_to, p.zone)}`}
          <button className="ml-4 underline decoration-pewter-line underline-offset-3" onClick={() => confirm(`Remove the SLA ${p.name} with its past?`) && drop.mutate(p.name)}>remove</button></div>
      </div>
      <div>
        <svg width="100%" height="16" role="img" aria-label={`${p.have} of ${p.at_least}`}>
          <rect x="0" y="4" width="100%" height="8" fill="var(--pewter)" />
          <rect x="0" y="4" width={`${share * 100}%`} height="8" fill={p.standing === "missed" ? "var(--verm-mark)" : "var(--ink)"} />
          {open && <line x1={`${gone * 100}%`} x2={`${gone * 100}%`} y1="0" y2="16" stroke="var(--brass-text)" strokeWidth="1.5" />}
        </svg>
        <div className="text-[13px] text-ink2">{number(p.have)} of {number(p.at_least)} {p.counts}{open && `; ${percent(gone)} of the window is over`}</div>
      </div>
    </article>
  );
}

function Ticks({ p }: { p: Promised }) {
  return (
    <svg width={30 * 9} height={16} role="img" aria-label={`${p.windows!.filter((d) => d.standing === "missed").length} of the last ${p.windows!.length} windows were missed`}>
      {p.windows!.map((d, i) => (
        <g key={d.day}><title>{`${d.day.slice(0, 10)}: ${d.standing}, ${d.have} of ${d.at_least}`}</title>
          {d.standing === "met" ? <line x1={i * 9 + 4} x2={i * 9 + 4} y1="4" y2="12" stroke="var(--ink2)" strokeWidth="1.5" /> : <path d={`M${i * 9 + 1} 5l6 6M${i * 9 + 7} 5l-6 6`} stroke="var(--verm-mark)" strokeWidth="1.8" />}
        </g>
      ))}
    </svg>
  );
}

const field = "w-full border border-ink3 bg-field px-2 py-[4px]";

/** A new promise; what was typed stays when it is refused. */
function Add({ open, setOpen }: { open: boolean; setOpen: (v: boolean) => void }) {
  const set = useSetPromise(), health = useHealth();
  const [days, setDays] = useState("mon-fri");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget), form = e.currentTarget, text = (k: string) => String(f.get(k) ?? "");
    const from = text("from") ? minute(text("from")) : 0, by = minute(text("by"));
    set.mutate({ name: text("name"), dataset: text("dataset"), counts: text("counts") as "rows", at_least: Number(text("at_least")), days, from_minute: from, to_minute: by <= from ? by + 1440 : by, lead_seconds: Number(text("lead")) * 3600 },
      { onSuccess: () => { form.reset(); setOpen(false); } });
  };
  if (!open) return <Section title="Add an SLA"><button className="mt-2 border border-ink px-4 py-[4px]" onClick={() => setOpen(true)}>Add</button></Section>;
  return (
    <Section title="Add an SLA" note="its past is looked at at once">
      <form className="mt-2 grid gap-2" aria-label="new SLA" onSubmit={submit}>
        <input name="name" aria-label="Name" required className={field} placeholder="name, for example parcels" />
        <select name="dataset" aria-label="Dataset" required className={field}>{(health.data ?? []).map((h) => <option key={h.dataset.name}>{h.dataset.name}</option>)}</select>
        <div className="flex items-center gap-2">at least <input name="at_least" aria-label="At least" type="number" min="1" step="any" required className={`${field} w-24`} /><select name="counts" aria-label="Of what" className={field}><option>rows</option><option>loads</option><option>files</option></select></div>
        <div className="flex items-center gap-2">from <input name="from" aria-label="From" type="time" className={field} /> by <input name="by" aria-label="By" type="time" required className={field} /></div>
        <select aria-label="Days" value={days} onChange={(e) => setDays(e.target.value)} className={field}><option value="mon-fri">on weekdays</option><option value="mon-sun">every day</option><option value="mon-sat">Monday to Saturday</option><option value="sat,sun">at weekends</option></select>
        <label className="flex items-center gap-2 text-ink2">told to be behind at most <input name="lead" aria-label="Lead" type="number" min="0.5" step="0.5" defaultValue="2" className={`${field} w-20`} /> h before</label>
        <div className="flex gap-2"><button disabled={set.isPending} className="border border-ink bg-brass-fill px-4 py-[4px] font-[650] text-on-brass">Add SLA</button><button type="button" className="border border-ink px-3" onClick={() => setOpen(false)}>Close</button></div>
        {set.error && <p role="alert" className="text-verm">{set.error.message}</p>}
      </form>
    </Section>
  );
}
