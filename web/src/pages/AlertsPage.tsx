import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { useIncidentOf } from "../api/learning";
import { type AlertQuery, useAlerts, useLabel } from "../api/queries";
import type { Alert, Verdict } from "../api/client";
import { Mark, stateOf } from "../parts/Mark";
import { Download } from "../parts/Download";
import { Page, Reading, Trouble } from "../parts/Page";
import { count, duration, number, rarity, time, word } from "../parts/words";
import { Button } from "../parts/Form";
import { type Column, Filter, Table, useFound } from "../parts/Table";

const filters = [
  ["", "all"],
  ["open", "open"],
  ["none", "unlabelled"],
  ["fault", "fault"],
  ["noise", "noise"],
  ["planned", "planned"],
  ["disputed", "disputed"],
  ["held", "held back"],
] as const;
const scopes = [
  "dataset",
  "monitor",
  "measure",
  "segment",
  "owner",
  "tag",
  "rule",
  "channel",
  "from",
] as const;

const scopeWords: Partial<Record<(typeof scopes)[number], string>> = {
  tag: "tagged",
  rule: "by the rule",
  channel: "told on",
};

/** What stays in the address when another filter is pressed. */
const kept = [...scopes, "sort", "find", "columns"] as const;

/** Those that can be sorted are called as the service calls them: it sorts. */
const columns: Column<Alert>[] = [
  {
    id: "severity",
    head: "state",
    by: (a) => a.severity,
    cell: (a) => <Mark state={a.closed_at ? a.severity : stateOf({ ...a, verdict: "" })} />,
  },
  {
    id: "what",
    head: "what",
    fixed: true,
    cell: (a) => (
      <a href={`/alerts/${a.id}`} onClick={(e) => e.preventDefault()}>
        {a.sentence}
      </a>
    ),
  },
  { id: "dataset", head: "dataset", cell: (a) => <code>{a.dataset}</code> },
  { id: "monitor", head: "monitor", away: true, cell: (a) => a.monitor || "–" },
  { id: "owner", head: "owner", away: true, cell: (a) => a.owner || "–" },
  {
    id: "raised_at",
    head: "raised",
    className: "whitespace-nowrap",
    by: (a) => a.raised_at,
    cell: (a) => time(a.raised_at, a.zone),
  },
  {
    id: "lasted",
    head: "lasted",
    className: "whitespace-nowrap",
    cell: (a) =>
      a.closed_at ? duration((Date.parse(a.closed_at) - Date.parse(a.raised_at)) / 1000) : "open",
  },
  {
    id: "return_period_seconds",
    is: "rarity",
    head: "how rare",
    className: "whitespace-nowrap text-ink2",
    by: (a) => a.return_period_seconds,
    cell: (a) => rarity(a.return_period_seconds),
  },
  {
    id: "strength",
    is: "strength",
    head: "beyond its limit",
    num: true,
    away: true,
    by: (a) => a.strength,
    cell: (a) => number(a.strength, 1),
  },
  { id: "label", head: "label", className: "whitespace-nowrap", cell: (a) => <Labelled a={a} /> },
];

function Labelled({ a }: { a: Alert }) {
  return (
    <>
      {a.verdict ? (
        <Mark state={a.verdict} />
      ) : a.held ? (
        <span className="text-ink2" title={a.held_why}>
          {a.held === "held" ? "held back" : "would be held"}
        </span>
      ) : (
        <span className="text-ink3">none</span>
      )}
      {a.disputed && (
        <b className="ml-2 text-brass-text" title="people do not agree on it">
          disputed
        </b>
      )}
    </>
  );
}

/** All alerts, open and past: filter by address, answer many at once. */
export function AlertsPage() {
  const [search, setSearch] = useSearchParams();
  const go = useNavigate();
  const show = search.get("show") ?? "";
  const held = search.get("held") as "held" | "shadow" | null;
  const query: AlertQuery = { limit: 300 };
  for (const s of scopes)
    if (search.get(s)) query[s] = s === "from" ? new Date(search.get(s)!).toISOString() : search.get(s)!;
  if (query.from && /^\d{4}-\d\d-01$/.test(search.get("from")!))
    query.to = new Date(
      Date.UTC(Number(search.get("from")!.slice(0, 4)), Number(search.get("from")!.slice(5, 7)), 1),
    ).toISOString();
  const scope = scopes
    .filter((s) => search.get(s))
    .map((s) =>
      s === "from" ? `of ${search.get(s)!.slice(0, 7)}` : `${scopeWords[s] ?? "of"} ${search.get(s)}`,
    )
    .join(" ");
  if (search.get("sort")) query.sort = search.get("sort")!;
  if (held) query.held = held;
  if (show === "open") query.state = "open";
  else if (show === "disputed") query.disputed = true;
  else if (show === "held") query.held = "held";
  else if (show) query.verdict = show as AlertQuery["verdict"];
  const alerts = useAlerts(query);
  const label = useLabel();
  const incident = useIncidentOf();
  const [marked, setMarked] = useState<number[]>([]);
  const list = useFound(
    alerts.data?.alerts ?? [],
    (a) => `${a.sentence} ${a.dataset} ${a.monitor} ${a.owner}`,
  );
  const answer = (verdict: Verdict) =>
    marked.length && label.mutate({ alerts: marked, verdict }, { onSuccess: () => setMarked([]) });
  const keys = {
    F: { does: "fault", act: () => answer("fault") },
    N: { does: "noise", act: () => answer("noise") },
    P: { does: "planned", act: () => answer("planned") },
  };
  const unanswered = list.filter((a) => !a.verdict).length;
  return (
    <Page
      place="Alerts"
      keys={keys}
      sentence={
        alerts.data
          ? `${word(list.length)} ` +
            (list.length === 1 ? "alert" : "alerts") +
            (show ? ` ${show === "none" ? "unlabelled" : show}` : "") +
            (held === "shadow"
              ? " that the filter would hold back"
              : held === "held"
                ? " that the filter holds back"
                : "") +
            (scope ? ` ${scope}` : "") +
            (show === "none" || !list.length
              ? ""
              : ", " + count(unanswered, "still without an answer", "still without an answer")) +
            "."
          : ""
      }
    >
      <div className="mt-4 flex min-h-[31px] flex-wrap items-center gap-x-4 gap-y-2">
        {filters.map(([value, name]) => (
          <button
            key={name}
            aria-pressed={show === value}
            className={show === value ? "border-b-2 border-brass-mark font-bold" : "text-ink2"}
            onClick={() =>
              setSearch({
                ...Object.fromEntries(kept.filter((s) => search.get(s)).map((s) => [s, search.get(s)!])),
                ...(value && { show: value }),
              })
            }
          >
            {name}
          </button>
        ))}
        {scope && (
          <Button look="text" onClick={() => setSearch(show ? { show } : {})}>
            all datasets
          </Button>
        )}
        <span className="ml-auto flex flex-wrap items-center gap-4">
          <Filter by="what, dataset, monitor" />
          {marked.length > 0 ? (
            <span className="text-ink2">
              {count(marked.length, "alert")} marked: press F, N or P, or{" "}
              <Button
                look="text"
                onClick={() =>
                  incident.mutate(
                    { alerts: marked },
                    {
                      onSuccess: (i) => {
                        setMarked([]);
                        go(`/incidents?find=${i.reference}`);
                      },
                    },
                  )
                }
              >
                make an incident of them
              </Button>
            </span>
          ) : (
            <Download
              name="All"
              path="/alerts/export"
              query={{
                dataset: search.get("dataset") ?? undefined,
                monitor: search.get("monitor") ?? undefined,
              }}
            />
          )}
        </span>
      </div>
      <Trouble what="Alerts" error={alerts.error ?? label.error ?? incident.error} />
      {alerts.isPending && <Reading what="alerts" />}
      <Table
        className="mt-3"
        columns={columns}
        rows={list}
        id={(a) => a.id}
        served
        row={(a) => ({ className: "open-row cursor-pointer", onClick: () => go(`/alerts/${a.id}`) })}
        mark={(a) => (
          <input
            type="checkbox"
            aria-label={`mark alert ${a.id}`}
            checked={marked.includes(a.id)}
            onChange={() =>
              setMarked(marked.includes(a.id) ? marked.filter((id) => id !== a.id) : [...marked, a.id])
            }
          />
        )}
      />
      {alerts.data && list.length === 0 && (
        <p className="mt-3 text-ink2">
          No such alert.{" "}
          <Button look="text" onClick={() => setSearch({})}>
            Show all
          </Button>
        </p>
      )}
    </Page>
  );
}
