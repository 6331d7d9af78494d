import { useState } from "react";
import { Link } from "react-router";
import type { Incident } from "../api/client";
import { useMergeIncidents } from "../api/learning";
import { useHealth, useIncidents, useScorecard } from "../api/queries";
import { Mark } from "../parts/Mark";
import { Page, Reading, Trouble } from "../parts/Page";
import { duration, time, word } from "../parts/words";
import { download } from "./save";
import { Button } from "../parts/Form";
import { type Column, Filter, Table, useFound } from "../parts/Table";
import { EditIncident } from "./incidents/Edit";
import { Import, AddIncident } from "./incidents/Add";

type State = (i: Incident) => "told" | "missed" | null;

export function IncidentsPage() {
  const incidents = useIncidents();
  const score = useScorecard();
  const health = useHealth();
  const [adding, setAdding] = useState(false);
  const [marked, setMarked] = useState<string[]>([]);
  const [editing, edit] = useState<string>();
  const merge = useMergeIncidents();
  const missed = new Set(score.data?.missed ?? []);
  const judgedFrom = score.data ? Date.parse(score.data.from) : Infinity;
  const state: State = (i) =>
    Date.parse(i.started_at) < judgedFrom ? null : missed.has(i.reference) ? "missed" : "told";
  const list = useFound(
    incidents.data ?? [],
    (i) => `${i.reference} ${i.title} ${i.dataset} ${i.also.join(" ")} ${i.segment} ${i.cause}`,
  );
  const n = incidents.data?.length ?? 0;
  const keys = { A: { does: "add", act: () => setAdding(true) } };
  return (
    <Page
      place="Incidents"
      keys={keys}
      sentence={
        incidents.data
          ? n === 0
            ? "The catalogue is empty."
            : `${word(n)} incidents are on record; of the ${score.data?.overall.recall.n ?? 0} ` +
              "since judging began, " +
              (missed.size === 0
                ? "every one was told"
                : `${word(missed.size).toLowerCase()} reached nobody`) +
              "."
          : ""
      }
      after="A miss stands out: it is what recall is counted from."
    >
      <Trouble what="Incidents" error={incidents.error} />
      <div className="mt-3 flex flex-wrap items-center gap-4">
        <Filter by="title, dataset, cause" />
        <AddIncident
          open={adding}
          setOpen={setAdding}
          datasets={(health.data ?? []).map((h) => h.dataset.name)}
        />
        <Import />
        <Button onClick={() => download("incidents.csv", new Blob([asCSV(list)], { type: "text/csv" }))}>
          Export {list.length === n ? "all" : list.length}
        </Button>
        {marked.length > 1 && (
          <Button
            look="text"
            disabled={merge.isPending}
            onClick={() => merge.mutate(marked, { onSuccess: () => setMarked([]) })}
          >
            make one of the {marked.length} marked, called {marked[0]}
          </Button>
        )}
        {merge.error && (
          <span role="alert" className="text-verm">
            {merge.error.message}
          </span>
        )}
      </div>
      {incidents.isPending && <Reading what="incidents" />}
      <Table
        className="mt-3"
        columns={columnsOf(state)}
        rows={list}
        id={(i) => i.id}
        row={(i) => ({ className: state(i) === "missed" ? "bg-verm-wash" : "" })}
        mark={(i) => (
          <input
            type="checkbox"
            aria-label={`mark ${i.reference}`}
            checked={marked.includes(i.reference)}
            onChange={() =>
              setMarked(
                marked.includes(i.reference)
                  ? marked.filter((r) => r !== i.reference)
                  : [...marked, i.reference],
              )
            }
            className="accent-[var(--ink)]"
          />
        )}
        below={(i) =>
          editing === i.reference && <EditIncident key={i.reference} i={i} close={() => edit(undefined)} />
        }
        after={(i) => (
          <Button look="text" onClick={() => edit(i.reference)}>
            edit
          </Button>
        )}
      />
      {incidents.data && list.length === 0 && (
        <p className="mt-3 text-ink2">
          {n ? "Nothing fits the filter." : "Add the faults you remember: recall is counted from them."}
        </p>
      )}
    </Page>
  );
}

const columns = [
  "reference",
  "dataset",
  "title",
  "started_at",
  "ended_at",
  "measure",
  "segment",
  "cause",
  "severity",
  "note",
  "author",
  "known_at",
  "impact",
  "downstream",
  "also",
] as const;
const quoted = (text: string) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
const asCSV = (list: Incident[]) =>
  [
    columns.join(","),
    ...list.map((i) =>
      columns.map((c) => quoted(c === "also" ? i.also.join("; ") : String(i[c] ?? ""))).join(","),
    ),
  ].join("\n") + "\n";

const columnsOf = (state: State): Column<Incident>[] => [
  { id: "reference", head: "reference", fixed: true, by: (i) => i.reference, cell: (i) => i.reference },
  {
    id: "title",
    head: "what happened",
    by: (i) => i.title,
    cell: (i) => (
      <>
        <span className="font-semibold">{i.title}</span>
        {(i.impact || i.downstream) && (
          <span className="block text-[13px] text-ink2">
            {i.impact}
            {i.downstream && " (what reads it is hit too)"}
          </span>
        )}
      </>
    ),
  },
  {
    id: "dataset",
    head: "dataset",
    by: (i) => i.dataset,
    cell: (i) =>
      [i.dataset, ...i.also].map((d) => (
        <span key={d} className="block">
          <Link to={`/datasets/${d}`}>
            <code>{d}</code>
          </Link>
        </span>
      )),
  },
  { id: "segment", head: "segment", by: (i) => i.segment, cell: (i) => i.segment || "–" },
  {
    id: "began",
    head: "began",
    className: "whitespace-nowrap",
    by: (i) => i.started_at,
    cell: (i) => time(i.started_at, i.zone),
  },
  {
    id: "lasted",
    head: "lasted",
    className: "whitespace-nowrap",
    by: (i) => (i.ended_at ? Date.parse(i.ended_at) - Date.parse(i.started_at) : null),
    cell: (i) =>
      i.ended_at ? duration((Date.parse(i.ended_at) - Date.parse(i.started_at)) / 1000) : "lasting",
  },
  { id: "cause", head: "cause", by: (i) => i.cause, cell: (i) => i.cause || "–" },
  { id: "note", head: "note", away: true, cell: (i) => i.note || "–" },
  { id: "author", head: "written by", away: true, by: (i) => i.author, cell: (i) => i.author || "–" },
  {
    id: "severity",
    head: "severity",
    by: (i) => i.severity,
    cell: (i) => <Mark state={i.severity} />,
  },
  {
    id: "told",
    head: "told",
    by: (i) => state(i),
    cell: (i) => {
      const s = state(i);
      return s ? <Mark state={s} /> : <span className="text-ink3">before judging</span>;
    },
  },
];
