import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Audit } from "../../api/client";
import { useAudit, useProof } from "../../api/people";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { useZone } from "../../parts/zone";
import { number, own, time } from "../../parts/words";
import { Places } from "./Places";
import { Button, Field, box as field } from "../../parts/Form";
import { type Column, Table } from "../../parts/Table";

/** Who did what, from where, with what was there before and after. */
export function AuditPage() {
  const [search, setSearch] = useSearchParams();
  const who = search.get("who") ?? "",
    what = search.get("what") ?? "",
    about = search.get("about") ?? "";
  const trail = useAudit(who, what, about),
    proof = useProof();
  const [open, setOpen] = useState<number>();
  const put = (key: string, v: string) =>
    setSearch(
      (s) => {
        if (v) s.set(key, v);
        else s.delete(key);
        return s;
      },
      { replace: true },
    );
  const list = trail.data ?? [],
    zone = useZone() ?? own;
  const p = proof.data;
  const sentence = !p
    ? ""
    : p.broken > 0
      ? `The audit trail is not as it was written: entry ${p.broken} does not follow from the one before it.`
      : `${number(p.entries)} ${p.entries === 1 ? "entry is" : "entries are"} kept, and ` +
        "each follows from the one before it.";
  return (
    <Page
      place={<Places here="audit" />}
      sentence={sentence}
      after={
        <>
          Changes, and looking at rows. Entries are added and never changed; pushes are counted where they are
          kept. Anew: <code>tinbell audit verify</code>
        </>
      }
    >
      <Trouble what="The audit trail" error={trail.error ?? proof.error} />
      {trail.isPending && <Reading what="the audit trail" />}
      <div className="mt-3 flex flex-wrap gap-5 text-[13px] text-ink2">
        <Field label="Who">
          <input className={field} value={who} onChange={(e) => put("who", e.target.value)} />
        </Field>
        <Field label="What was done">
          <input className={field} value={what} onChange={(e) => put("what", e.target.value)} />
        </Field>
        <Field label="To what">
          <input className={field} value={about} onChange={(e) => put("about", e.target.value)} />
        </Field>
      </div>
      <Section
        title="Entries"
        className="mt-4"
        note="newest first"
        right={
          list.length === 200 ? "the last 200" : list.length === 1 ? "1 entry" : `${list.length} entries`
        }
      >
        {trail.data && list.length === 0 && <p className="mt-2 text-ink2">Nothing fits.</p>}
        {list.length > 0 && (
          <div data-audit>
            <Table
              columns={columns(zone)}
              rows={list}
              id={(a) => a.id}
              after={(a) =>
                Boolean(a.before ?? a.after) && (
                  <Button
                    aria-expanded={open === a.id}
                    look="text"
                    onClick={() => setOpen(open === a.id ? undefined : a.id)}
                  >
                    {open === a.id ? "close" : "whole"}
                  </Button>
                )
              }
              below={(a) =>
                open === a.id && (
                  <div className="grid grid-cols-2 gap-6">
                    <Held title="Before" v={a.before} />
                    <Held title="After" v={a.after} />
                  </div>
                )
              }
            />
          </div>
        )}
      </Section>
    </Page>
  );
}

const columns = (zone: string): Column<Audit>[] => [
  {
    id: "at",
    head: "at",
    fixed: true,
    className: "whitespace-nowrap text-ink2",
    by: (a) => a.at,
    cell: (a) => time(a.at, zone),
  },
  {
    id: "by",
    head: "who",
    className: "whitespace-nowrap",
    by: (a) => a.who,
    cell: (a) => (
      <>
        <Link className="plain" to={`/setup/audit?who=${encodeURIComponent(a.who)}`}>
          {a.who}
        </Link>
        {a.role && <span className="ml-2 text-[12px] text-ink3">{a.role}</span>}
      </>
    ),
  },
  { id: "did", head: "what", className: "whitespace-nowrap", by: (a) => a.what, cell: (a) => a.what },
  {
    id: "of",
    head: "of",
    className: "min-w-[190px] max-w-[300px] break-words",
    by: (a) => a.about,
    cell: (a) => <code>{a.about}</code>,
  },
  {
    id: "differs",
    head: "what differs",
    cell: (a) => <span className="text-[13px] break-words text-ink2">{a.note || "–"}</span>,
  },
  {
    id: "from",
    head: "from",
    className: "whitespace-nowrap text-ink3",
    by: (a) => a.origin,
    cell: (a) => a.origin || "–",
  },
];

function Held({ title, v }: { title: string; v: unknown }) {
  return (
    <div>
      <p className="text-[13px] text-ink2">{title}</p>
      <pre
        tabIndex={0}
        className="mt-1 max-h-[340px] overflow-auto bg-well p-2 font-mono text-[12px] whitespace-pre-wrap"
      >
        {v ? JSON.stringify(v, null, 2) : "nothing"}
      </pre>
    </div>
  );
}
