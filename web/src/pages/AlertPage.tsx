import { useMemo, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { AlertDetail, Verdict } from "../api/client";
import { useAlert, useAlerts, useChart, useLabel, useMe, useNewNormal, useWhy } from "../api/queries";
import { Gaps, hasGaps, useFill } from "../parts/Gaps";
import { Key } from "../parts/keys";
import { Like } from "../parts/Like";
import { FeaturePanel } from "./drift/FeaturePanel";
import { Mark, stateOf } from "../parts/Mark";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { duration, number, rarity, signed, time } from "../parts/words";
import { Why as Reasons } from "./alert/Why";
import { Button } from "../parts/Form";
import { AnswerBar } from "../parts/AnswerBar";
import { Term, type TermName } from "../parts/Term";
import { Evidence, Why } from "./alert/Evidence";
import { Together, Before, History } from "./alert/Beside";
import { wider } from "../parts/period";

const hour = 3_600_000,
  day = 24 * hour;

/** The stretch an alert is first shown with: a week before, and on past now. */
function stretch(a: AlertDetail, now: number, search: URLSearchParams): [Date, Date] {
  if (search.get("from") && search.get("to"))
    return [new Date(search.get("from")!), new Date(search.get("to")!)];
  const wide = wider(a.period_seconds, 6);
  const from = Date.parse(a.since) - 5 * day * wide;
  const end = a.closed_at
    ? Math.min(Date.parse(a.closed_at) + 2 * day * wide, now + 8 * hour)
    : now + 8 * hour;
  return [new Date(Math.floor(from / hour) * hour), new Date(Math.ceil(end / hour) * hour)];
}

export function AlertPage() {
  const id = Number(useParams().id);
  const me = useMe();
  const alert = useAlert(id);
  if (alert.error)
    return (
      <Page place={`Alert ${id}`} sentence={`There is no alert ${id}.`}>
        <Trouble what="The alert" error={alert.error} />
      </Page>
    );
  if (!alert.data || !me.data)
    return (
      <Page place={`Alert ${id}`} sentence="">
        <Reading what="the alert" />
      </Page>
    );
  return <Shown key={id} alert={alert.data} now={Date.parse(me.data.now)} />;
}

function Shown({ alert: a, now }: { alert: AlertDetail; now: number }) {
  const go = useNavigate();
  const [search, setSearch] = useSearchParams();
  const [from, to] = useMemo(() => stretch(a, now, search), [a, now, search]);
  const [fill, setFill] = useFill();
  const chart = useChart(a.series_id || undefined, from, to, fill);
  const open = useAlerts({ state: a.closed_at ? "closed" : "open", limit: 200 });
  const list = open.data?.alerts ?? [];
  const place = list.findIndex((o) => o.id === a.id);
  const step = (by: number) => list[place + by] && go(`/alerts/${list[place + by].id}`);
  const label = useLabel();
  const normal = useNewNormal();
  const [note, setNote] = useState("");
  const why = useWhy(a.id).data;
  const found = [
    why?.line,
    why?.lineage?.first && why.lineage.first !== a.dataset ? `began at ${why.lineage.first}` : "",
  ]
    .filter(Boolean)
    .join("; ");
  const answer = (verdict: Verdict | "") =>
    label.mutate(
      { alerts: [a.id], verdict, note: note || undefined, seen: { [a.id]: a.label_id } },
      { onSuccess: () => setNote("") },
    );
  const keys = {
    K: { does: "before", act: () => step(-1) },
    J: { does: place >= 0 ? `next, ${place + 1} of ${list.length}` : "next", act: () => step(1) },
    F: { does: "fault", act: () => answer("fault") },
    N: { does: "noise", act: () => answer("noise") },
    P: { does: "planned", act: () => answer("planned") },
    Z: { does: "take the label back", act: () => answer("") },
    ...(found && note !== found ? { O: { does: "note what was found", act: () => setNote(found) } } : {}),
  };
  const zoom = (f: Date | null, t?: Date) =>
    setSearch(f && t ? { from: f.toISOString(), to: t.toISOString() } : {});
  return (
    <>
      <Page
        place={`Alert ${a.id}`}
        keys={keys}
        sentence={`${a.sentence}${a.closed_at ? "" : `, since ${time(a.since, a.zone)}`}.`}
      >
        {a.figures && <p className="mt-[6px] text-ink2">{a.figures}.</p>}
        <Facts alert={a} now={now} />
        {a.disputed && (
          <p className="mt-2 text-brass-text">
            <b>People do not agree on this one.</b> Their answers stand in its history; the newest is in
            force.
          </p>
        )}
        {a.held && (
          <p className="mt-2 text-ink2">
            <b className="text-ink">
              {a.held === "held" ? "The filter holds it back" : "The filter would hold it back"}:
            </b>{" "}
            {a.held_why}. It is <Why id={a.id} />
          </p>
        )}
        <Trouble what="The chart" error={chart.error} />
        {a.series_id === 0 ? null : chart.data ? (
          <>
            <Evidence chart={chart.data} alert={a} now={now} zoom={zoom} />
            {hasGaps(chart.data, now) && <Gaps fill={fill} onFill={setFill} />}
            <Like series={a.series_id} />
          </>
        ) : (
          <div className="mt-4 h-[330px] bg-well" />
        )}
        <Reasons alert={a} />
        <div className="mt-5 mb-24 grid grid-cols-2 gap-8 max-lg:grid-cols-1">
          <div className="grid content-start gap-6">
            {a.comparison && <Drifted alert={a} />}
            <Together alert={a} />
            <Before alert={a} />
          </div>
          <History alert={a} />
        </div>
      </Page>
      <AnswerBar
        asks={a.verdict ? "It was" : "What was it?"}
        given={(v) => a.verdict === v}
        busy={label.isPending}
        answer={answer}
      >
        <input
          aria-label="Cause or note"
          className="min-w-0 grow border border-ink3 bg-field px-3 py-[5px] max-md:w-full"
          placeholder={found ? `Cause or note; O takes: ${found}` : "Cause or note, kept with the label"}
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
        {a.verdict && (
          <Button look="text" onClick={() => answer("")}>
            <Key name="Z" />
            take back
          </Button>
        )}
        {a.cause === "deviation" && a.close_reason !== "level_adopted" && (
          <Button
            disabled={normal.isPending}
            onClick={() => normal.mutate(a.id)}
            title="The level seen since the alert began is what to expect from now on"
            look="text"
          >
            new normal
          </Button>
        )}
        {(label.error ?? normal.error) && (
          <span role="alert" className="text-verm">
            {(label.error ?? normal.error)!.message}
          </span>
        )}
      </AnswerBar>
    </>
  );
}

/** What the rows were like when a comparison rang. */
function Drifted({ alert: a }: { alert: AlertDetail }) {
  const there = `/drift/${encodeURIComponent(a.comparison)}`,
    at = encodeURIComponent(a.since);
  if (a.segment.startsWith("("))
    return (
      <Section title="Drift" right={<Link to={`${there}?at=${at}`}>comparison {a.comparison}</Link>}>
        <p className="mt-2">
          <Link to={`${there}?at=${at}&view=${a.segment.includes("ranking") ? "models" : "pairs"}`}>
            {a.segment.includes("ranking")
              ? "How the model ranks what came true"
              : "The features and pairs of that period"}
          </Link>
        </p>
      </Section>
    );
  return (
    <FeaturePanel
      name={a.comparison}
      feature={a.segment}
      at={a.since}
      link={
        <Link
          to={`${there}?at=${at}&feature=${encodeURIComponent(a.segment)}`}
          className="plain border border-ink px-3 py-[4px] font-[650]"
        >
          Open comparison {a.comparison}
        </Link>
      }
    />
  );
}

function Facts({ alert: a, now }: { alert: AlertDetail; now: number }) {
  const facts: [string, React.ReactNode][] = [
    [
      "State",
      <span className="inline-flex items-baseline gap-[6px]">
        <Mark state={stateOf(a)} />{" "}
        <span className="text-ink2">
          {a.closed_at
            ? `closed ${time(a.closed_at, a.zone)}`
            : `open ${duration((now - Date.parse(a.raised_at)) / 1000)}`}
        </span>
      </span>,
    ],
    ...(a.series_id === 0
      ? aboutSource(a)
      : ([
          ["As unusual as this", <b className="font-[650]">{rarity(a.return_period_seconds)}</b>],
          [
            "Furthest from expected",
            <b className="font-[650]">{a.cause === "overdue" ? "–" : `${signed(a.peak)} half-widths`}</b>,
          ],
          [
            "Told by",
            `the ${a.cause} rule, ` +
              time(a.raised_at, a.zone) +
              (a.strength > 1 ? `, ${number(a.strength)} times its limit` : ""),
          ],
          ...(a.returns > 0 && a.returned_at
            ? [["Came back, not told again", `${a.returns} times, last ${time(a.returned_at, a.zone)}`]]
            : []),
          ["Monitor", <Link to={`/monitors/${a.monitor}?series=${a.series_id}`}>{a.monitor}</Link>],
        ] as [string, React.ReactNode][])),
    ...(a.dataset
      ? ([
          [
            "Dataset",
            <Link to={`/datasets/${a.dataset}`}>
              <code>{a.dataset}</code>
            </Link>,
          ],
        ] as [string, React.ReactNode][])
      : []),
    ["Owner", a.owner || "none"],
  ];
  return (
    <dl className="mt-[8px] flex flex-wrap gap-x-[34px] gap-y-2">
      {facts.map(([name, what]) => (
        <div key={name}>
          <dt className="text-[13px] leading-[17px] text-ink2">
            {ours[name] ? <Term is={ours[name]}>{name}</Term> : name}
          </dt>
          <dd>{what}</dd>
        </div>
      ))}
    </dl>
  );
}

/** What of these is a figure of ours, to be said in place. */
const ours: Record<string, TermName> = {
  "As unusual as this": "rarity",
  "Furthest from expected": "deviation",
};

const kinds: Record<string, string> = {
  unreadable: "cannot be read",
  columns: "columns changed",
  runs: "no run when one was due",
  file: "a bad file",
  promise: "a promise",
  sentence: "a new sentence",
};

/** An alert about a source, a table or a job: it has no series and no band. */
const aboutSource = (a: AlertDetail): [string, React.ReactNode][] => [
  ["What it is", <b className="font-[650]">{kinds[a.cause] ?? a.cause}</b>],
  ["Told", time(a.raised_at, a.zone)],
  ...(a.source ? ([["Source", <Link to="/setup">{a.source}</Link>]] as [string, React.ReactNode][]) : []),
  ...(a.sla ? ([["SLA", <Link to="/slas">{a.sla}</Link>]] as [string, React.ReactNode][]) : []),
  ...(a.job ? ([["Job", <code>{a.job}</code>]] as [string, React.ReactNode][]) : []),
];
