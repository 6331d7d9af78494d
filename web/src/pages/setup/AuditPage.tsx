import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Audit } from "../../api/client";
import { useAudit, useProof } from "../../api/people";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { useZone } from "../../parts/Masthead";
import { number, own, time } from "../../parts/words";
import { Places } from "./Places";

/** Who did what, from where, with what was there before and after. */
export function AuditPage() {
  const [search, setSearch] = useSearchParams();
  const who = search.get("who") ?? "", what = search.get("what") ?? "", about = search.get("about") ?? "";
  const trail = useAudit(who, what, about), proof = useProof();
  const [open, setOpen] = useState<number>();
  const put = (key: string, v: string) => setSearch((s) => { if (v) s.set(key, v); else s.delete(key); return s; }, { replace: true });
  const list = trail.data ?? [], zone = useZone() ?? own;
  const p = proof.data;
  const sentence = !p ? "" : p.broken > 0 ? `The audit trail is not as it was written: entry ${p.broken} does not follow from the one before it.` : `${number(p.entries)} ${p.entries === 1 ? "entry is" : "entries are"} kept, and each follows from the one before it.`;
  const field = "mt-[2px] block w-44 border border-ink3 bg-field px-2 py-[2px] text-ink";
  return (
    <Page place={<Places here="audit" />} sentence={sentence} after={<>Changes, and looking at rows. Entries are added and never changed; pushes are counted where they are kept. Anew: <code>tinbell audit verify</code></>}>
      <Trouble what="The audit trail" error={trail.error ?? proof.error} />
      {trail.isPending && <Reading what="the audit trail" />}
      <div className="mt-3 flex flex-wrap gap-5 text-[13px] text-ink2">
        <label>Who<input className={field} value={who} onChange={(e) => put("who", e.target.value)} /></label>
        <label>What was done<input className={field} value={what} onChange={(e) => put("what", e.target.value)} /></label>
        <label>To what<input className={field} value={about} onChange={(e) => put("about", e.target.value)} /></label>
      </div>
      <Section title="Entries" className="mt-4" note="newest first" right={list.length === 200 ? "the last 200" : list.length === 1 ? "1 entry" : `${list.length} entries`}>
        {trail.data && list.length === 0 && <p className="mt-2 text-ink2">Nothing fits.</p>}
        {list.length > 0 && (
          <table className="mt-1 w-full border-collapse" data-audit>
            <thead><tr><th className="py-1">at</th><th className="pl-3">who</th><th className="pl-3">what</th><th className="pl-3">of</th><th className="pl-3">what differs</th><th className="pl-3">from</th><th /></tr></thead>
            <tbody>{list.map((a) => <Entry key={a.id} of={a} zone={zone} open={open === a.id} toggle={() => setOpen(open === a.id ? undefined : a.id)} />)}</tbody>
          </table>
        )}
      </Section>
    </Page>
  );
}

function Entry({ of: a, zone, open, toggle }: { of: Audit; zone: string; open: boolean; toggle: () => void }) {
  const holds = Boolean(a.before) || Boolean(a.after);
  return (
    <>
      <tr className="h-[28px] align-baseline">
        <td className="whitespace-nowrap text-ink2">{time(a.at, zone)}</td>
        <td className="pl-3 whitespace-nowrap"><Link className="plain" to={`/setup/audit?who=${encodeURIComponent(a.who)}`}>{a.who}</Link>{a.role && <span className="ml-2 text-[12px] text-ink3">{a.role}</span>}</td>
        <td className="pl-3 whitespace-nowrap">{a.what}</td><td className="min-w-[190px] max-w-[300px] pl-3 break-words"><code>{a.about}</code></td>
        <td className="pl-3 text-[13px] break-words text-ink2">{a.note || "–"}</td><td className="pl-3 whitespace-nowrap text-ink3">{a.origin || "–"}</td>
        <td className="num pl-4">{holds && <button aria-expanded={open} className="underline decoration-pewter-line underline-offset-3" onClick={toggle}>{open ? "close" : "whole"}</button>}</td>
      </tr>
      {open && (
        <tr><td colSpan={7} className="pb-3">
          <div className="grid grid-cols-2 gap-6">
            <Held title="Before" v={a.before} /><Held title="After" v={a.after} />
          </div>
        </td></tr>
      )}
    </>
  );
}

function Held({ title, v }: { title: string; v: unknown }) {
  return <div><p className="text-[13px] text-ink2">{title}</p><pre className="mt-1 max-h-[340px] overflow-auto bg-well p-2 font-mono text-[12px] whitespace-pre-wrap">{v ? JSON.stringify(v, null, 2) : "nothing"}</pre></div>;
}
