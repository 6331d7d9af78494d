import { Link } from "react-router";
import type { Card, Monitor } from "../api/client";
import { useMonitors, useScorecard } from "../api/queries";
import { Interval } from "../chart/Interval";
import { type Column, Filter, Table, useFound } from "../parts/Table";
import { Page, Reading, Trouble } from "../parts/Page";
import { achieved, atWorst, duration, possible, word } from "../parts/words";
import { methodName } from "./monitor/SettingsForm";

const open = () => ({ className: "open-row" });

const columns = (cards: Map<string, Card>, broken: Card[]): Column<Monitor>[] => [
  {
    id: "monitor",
    head: "monitor",
    fixed: true,
    by: (m) => m.name,
    cell: (m) => (
      <>
        <Link to={`/monitors/${m.name}`}>{m.name}</Link>
        {m.paused && " (paused)"}
      </>
    ),
  },
  {
    id: "dataset",
    head: "dataset",
    by: (m) => m.dataset,
    cell: (m) => (
      <Link to={`/datasets/${m.dataset}`}>
        <code>{m.dataset}</code>
      </Link>
    ),
  },
  { id: "owner", head: "owner", away: true, by: (m) => m.owner, cell: (m) => m.owner || "–" },
  {
    id: "baseline",
    head: "baseline",
    by: (m) => methodName(m.settings),
    cell: (m) => methodName(m.settings),
  },
  { id: "direction", head: "direction", by: (m) => m.settings.direction, cell: (m) => m.settings.direction },
  {
    id: "stated",
    is: "stated",
    head: "stated",
    num: true,
    by: (m) => m.settings.warn_seconds,
    cell: (m) => `1 in ${duration(m.settings.warn_seconds)}`,
  },
  {
    id: "achieved",
    is: "achieved",
    head: "achieved",
    num: true,
    by: (m) => cards.get(m.name)?.achieved.seconds,
    cell: (m) => <Achieved card={cards.get(m.name)} over={broken.some((c) => c.monitor === m.name)} />,
  },
  {
    id: "interval",
    is: "interval",
    head: "95 %",
    num: true,
    className: "text-ink2",
    cell: (m) => {
      const c = cards.get(m.name);
      return c && possible(c.achieved).replace("1 in ", "");
    },
  },
  {
    id: "precision",
    is: "precision",
    head: "precision",
    className: "pl-4",
    by: (m) => cards.get(m.name)?.precision.estimate,
    cell: (m) => {
      const c = cards.get(m.name);
      return c && <Interval figure={c.precision} />;
    },
  },
  {
    id: "found",
    is: "recall",
    head: "found",
    num: true,
    by: (m) => cards.get(m.name)?.recall.estimate,
    cell: (m) => {
      const c = cards.get(m.name);
      return c?.recall.n ? `${c.recall.k} of ${c.recall.n}` : "–";
    },
  },
  {
    id: "delay",
    is: "delay",
    head: "delay",
    num: true,
    by: (m) => cards.get(m.name)?.delay_seconds.estimate,
    cell: (m) => {
      const delay = cards.get(m.name)?.delay_seconds.estimate ?? null;
      return delay !== null ? duration(delay) : "–";
    },
  },
  {
    id: "version",
    head: "version",
    num: true,
    away: true,
    by: (m) => m.version,
    cell: (m) => (m.learned_at ? m.version : "not fitted"),
  },
];

function Achieved({ card: c, over }: { card: Card | undefined; over: boolean }) {
  if (!c) return "–";
  const worst = atWorst(c.achieved);
  return (
    <span className={over ? "font-bold text-verm" : ""}>
      {achieved(c.achieved)}
      {worst && (
        <span className="ml-2 font-normal text-ink3" title="if all that is unlabelled were noise">
          {worst}
        </span>
      )}
    </span>
  );
}

/** All monitors: how they are set, and what they have kept of what they state. */
export function MonitorsPage() {
  const monitors = useMonitors();
  const score = useScorecard();
  const cards = new Map((score.data?.monitors ?? []).map((c) => [c.monitor, c]));
  const broken = [...cards.values()].filter(
    (c) => c.achieved.longest_seconds !== null && c.achieved.longest_seconds < c.stated_seconds,
  );
  const list = useFound(
    monitors.data ?? [],
    (m) =>
      `${m.name} ${m.dataset} ${m.owner} ${m.settings.method} ${m.tags.join(" ")} ${m.inherited.join(" ")}`,
  );
  const n = monitors.data?.length ?? 0;
  return (
    <Page
      place="Monitors"
      sentence={
        !monitors.data
          ? ""
          : n === 0
            ? "No monitor yet."
            : `${word(n)} monitors; ` +
              (broken.length === 0
                ? "none cries wolf more often than it states"
                : `${word(broken.length).toLowerCase()} cried wolf more often than stated`) +
              "."
      }
      after={
        "Stated is what chance alone may ring, all segments together; achieved counts " +
        "labelled false alarms so far, one disturbance once; behind it, if all that is " +
        "unlabelled were noise."
      }
    >
      <Trouble what="Monitors" error={monitors.error} />
      {monitors.isPending && <Reading what="monitors" />}
      <div className="mt-3">
        <Filter by="name, dataset, owner, tag" />
      </div>
      <Table className="mt-3" columns={columns(cards, broken)} rows={list} id={(m) => m.id} row={open} />
      {monitors.data && list.length === 0 && (
        <p className="mt-3 text-ink2">
          {n ? (
            "Nothing fits the filter."
          ) : (
            <>
              Add one: <code>tinbell monitor add NAME METRIC</code>
            </>
          )}
        </p>
      )}
    </Page>
  );
}
