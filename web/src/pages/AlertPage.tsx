import { useMemo, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { AlertDetail, Chart, Verdict } from "../api/client";
import { useHeld } from "../api/learning";
import { useAlert, useAlerts, useChart, useExplain, useLabel, useMe, useNewNormal, useWhy } from "../api/queries";
import { useGroup } from "../api/telling";
import { SeriesChart } from "../chart/SeriesChart";
import { Gaps, hasGaps, useFill } from "../parts/Gaps";
import { Key } from "../parts/keys";
import { FeaturePanel } from "./drift/FeaturePanel";
import { Mark, stateOf } from "../parts/Mark";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { city, duration, number, rarity, signed, time, value } from "../parts/words";
import { saveCSV, savePNG } from "./save";
import { Why as Reasons } from "./alert/Why";

const hour = 3_600_000, day = 24 * hour;

/** The stretch an alert is first shown with: a week before, and on past now. */
function stretch(a: AlertDetail, now: number, search: URLSearchParams): [Date, Date] {
  if (search.get("from") && search.get("to")) return [new Date(search.get("from")!), new Date(search.get("to")!)];
  const wide = a.period_seconds >= 86400 ? 6 : 1;
  const from = Date.parse(a.since) - 5 * day * wide;
  const end = a.closed_at ? Math.min(Date.parse(a.closed_at) + 2 * day * wide, now + 8 * hour) : now + 8 * hour;
  return [new Date(Math.floor(from / hour) * hour), new Date(Math.ceil(end / hour) * hour)];
}

export function AlertPage() {
  const id = Number(useParams().id);
  const me = useMe();
  const alert = useAlert(id);
  if (alert.error) return <Page place={`Alert ${id}`} sentence={`There is no alert ${id}.`}><Trouble what="The alert" error={alert.error} /></Page>;
  if (!alert.data || !me.data) return <Page place={`Alert ${id}`} sentence=""><Reading what="the alert" /></Page>;
  return <Shown key={id} alert={alert.data} now={Date.parse(me.data.now)} />;
}

function Shown({ alert: a, now }: { alert: AlertDetail; now: number }) {
  const go = useNavigate();
  const [search, setSearch] = useSearchParams();
  const [from, to] = useMemo(() => stretch(a, now, search), [a.id, a.closed_at, search, Math.floor(now / hour)]);
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
  const found = [why?.line, why?.lineage?.first && why.lineage.first !== a.dataset ? `began at ${why.lineage.first}` : ""].filter(Boolean).join("; ");
  const answer = (verdict: Verdict | "") => label.mutate({ alerts: [a.id], verdict, note: note || undefined, seen: { [a.id]: a.label_id } }, { onSuccess: () => setNote("") });
  const keys = {
    K: { does: "before", act: () => step(-1) },
    J: { does: place >= 0 ? `next, ${place + 1} of ${list.length}` : "next", act: () => step(1) },
    F: { does: "fault", act: () => answer("fault") },
    N: { does: "noise", act: () => answer("noise") },
    P: { does: "planned", act: () => answer("planned") },
    Z: { does: "take the label back", act: () => answer("") },
    ...(found && note !== found ? { O: { does: "note what was found", act: () => setNote(found) } } : {}),
  };
  const zoom = (f: Date | null, t?: Date) => setSearch(f && t ? { from: f.toISOString(), to: t.toISOString() } : {});
  return (
    <>
      <Page place={`Alert ${a.id}`} keys={keys} sentence={`${a.sentence}${a.closed_at ? "" : `, since ${time(a.since, a.zone)}`}.`}>
        {a.figures && <p className="mt-[6px] text-ink2">{a.figures}.</p>}
        <Facts alert={a} now={now} />
        {a.disputed && <p className="mt-2 text-brass-text"><b>People do not agree on this one.</b> Their answers stand in its history; the newest is in force.</p>}
        {a.held && <p className="mt-2 text-ink2"><b className="text-ink">{a.held === "held" ? "The filter holds it back" : "The filter would hold it back"}:</b> {a.held_why}. It is <Why id={a.id} /></p>}
        <Trouble what="The chart" error={chart.error} />
        {a.series_id === 0 ? null : chart.data ? <><Evidence chart={chart.data} alert={a} now={now} zoom={zoom} />{hasGaps(chart.data, now) && <Gaps fill={fill} onFill={setFill} />}</> : <div className="mt-4 h-[330px] bg-well" />}
        <Reasons alert={a} />
        <div className="mt-5 mb-16 grid grid-cols-2 gap-8">
          <div className="grid content-start gap-6">{a.comparison && <Drifted alert={a} />}<Together alert={a} /><Before alert={a} /></div>
          <History alert={a} />
        </div>
      </Page>
      <footer className="fixed inset-x-0 bottom-0 flex items-center gap-5 border-t border-ink bg-well px-6 py-[13px]">
        <span className="font-[650]">{a.verdict ? "It was" : "What was it?"}</span>
        {(["fault", "noise", "planned"] as const).map((v) => (
          <button key={v} aria-pressed={a.verdict === v} disabled={label.isPending} onClick={() => answer(v)}
            className={`flex items-center border px-3 py-[5px] ${a.verdict === v ? "border-ink bg-field outline-1 outline-ink" : "border-ink"}`}>
            <Key name={v[0].toUpperCase()} /><Mark state={v} word={v[0].toUpperCase() + v.slice(1)} />
          </button>
        ))}
        <input aria-label="Cause or note" className="grow border border-ink3 bg-field px-3 py-[5px]" placeholder={found ? `Cause or note; O takes: ${found}` : "Cause or note, kept with the label"} value={note} onChange={(e) => setNote(e.target.value)} />
        {a.verdict && <button className="underline decoration-pewter-line" onClick={() => answer("")}><Key name="Z" />take back</button>}
        {a.cause === "deviation" && a.close_reason !== "level_adopted" && (
          <button disabled={normal.isPending} onClick={() => normal.mutate(a.id)} title="The level seen since the alert began is what to expect from now on" className="underline decoration-pewter-line">new normal</button>
        )}
        {(label.error ?? normal.error) && <span role="alert" className="text-verm">{(label.error ?? normal.error)!.message}</span>}
      </footer>
    </>
  );
}

/** What the rows were like when a comparison rang. */
function Drifted({ alert: a }: { alert: AlertDetail }) {
  const there = `/drift/${encodeURIComponent(a.comparison)}`, at = encodeURIComponent(a.since);
  if (a.segment.startsWith("(")) return <Section title="Drift" right={<Link to={`${there}?at=${at}`}>comparison {a.comparison}</Link>}><p className="mt-2"><Link to={`${there}?at=${at}&view=${a.segment.includes("ranking") ? "models" : "pairs"}`}>{a.segment.includes("ranking") ? "How the model ranks what came true" : "The features and pairs of that period"}</Link></p></Section>;
  return <FeaturePanel name={a.comparison} feature={a.segment} at={a.since} link={<Link to={`${there}?at=${at}&feature=${encodeURIComponent(a.segment)}`} className="plain border border-ink px-3 py-[4px] font-[650]">Open comparison {a.comparison}</Link>} />;
}

function Facts({ alert: a, now }: { alert: AlertDetail; now: number }) {
  const facts: [string, React.ReactNode][] = [
    ["State", <span className="inline-flex items-baseline gap-[6px]"><Mark state={stateOf(a)} /> <span className="text-ink2">{a.closed_at ? `closed ${time(a.closed_at, a.zone)}` : `open ${duration((now - Date.parse(a.raised_at)) / 1000)}`}</span></span>],
    ...(a.series_id === 0 ? aboutSource(a) : ([
      ["As unusual as this", <b className="font-[650]">{rarity(a.return_period_seconds)}</b>],
      ["Furthest from expected", <b className="font-[650]">{a.cause === "overdue" ? "–" : `${signed(a.peak)} half-widths`}</b>],
      ["Told by", `the ${a.cause} rule, ${time(a.raised_at, a.zone)}${a.strength > 1 ? `, ${number(a.strength)} times its limit` : ""}`],
      ...(a.returns > 0 && a.returned_at ? [["Came back, not told again", `${a.returns} times, last ${time(a.returned_at, a.zone)}`]] : []),
      ["Monitor", <Link to={`/monitors/${a.monitor}?series=${a.series_id}`}>{a.monitor}</Link>],
    ] as [string, React.ReactNode][])),
    ...(a.dataset ? ([["Dataset", <Link to={`/datasets/${a.dataset}`}><code>{a.dataset}</code></Link>]] as [string, React.ReactNode][]) : []),
    ["Owner", a.owner || "none"],
  ];
  return (
    <dl className="mt-[8px] flex flex-wrap gap-x-[34px] gap-y-2">
      {facts.map(([name, what]) => <div key={name}><dt className="text-[13px] leading-[17px] text-ink2">{name}</dt><dd>{what}</dd></div>)}
    </dl>
  );
}

const kinds: Record<string, string> = { unreadable: "cannot be read", columns: "columns changed", runs: "no run when one was due", file: "a bad file", promise: "a promise", sentence: "a new sentence" };

/** An alert about a source, a table or a job: it has no series and no band. */
const aboutSource = (a: AlertDetail): [string, React.ReactNode][] => [
  ["What it is", <b className="font-[650]">{kinds[a.cause] ?? a.cause}</b>],
  ["Told", time(a.raised_at, a.zone)],
  ...(a.source ? ([["Source", <Link to="/setup">{a.source}</Link>]] as [string, React.ReactNode][]) : []),
  ...(a.sla ? ([["SLA", <Link to="/slas">{a.sla}</Link>]] as [string, React.ReactNode][]) : []),
  ...(a.job ? ([["Job", <code>{a.job}</code>]] as [string, React.ReactNode][]) : []),
];

/** The chart with its reading at the side. */
function Evidence({ chart, alert: a, now, zoom }: { chart: Chart; alert: AlertDetail; now: number; zoom: (from: Date | null, to?: Date) => void }) {
  const last = (chart.observed ?? []).findLastIndex((v) => v !== null);
  const [at, setAt] = useState<number | null>(null);
  const [table, setTable] = useState(false);
  const index = Math.min(Math.max(at ?? last, 0), (chart.at ?? []).length - 1);
  return (
    <div className="mt-[10px] grid grid-cols-[minmax(0,1fr)_260px] gap-6">
      {table ? <Values chart={chart} /> : <SeriesChart chart={chart} now={now} since={a.since} at={index} onAt={setAt} onZoom={zoom} />}
      <ReadingTable chart={chart} index={index} table={table} setTable={setTable} />
    </div>
  );
}

function ReadingTable({ chart, index, table, setTable }: { chart: Chart; index: number; table: boolean; setTable: (v: boolean) => void }) {
  const [why, setWhy] = useState(false);
  const at = chart.at?.[index];
  const explain = useExplain(chart.series.id, why ? at : undefined);
  const pick = (list: (number | null)[] | null) => list?.[index];
  const deviation = pick(chart.deviation);
  const rows = [
    ["observed", value(pick(chart.observed), chart.kind), true],
    ["expected", value(pick(chart.expected), chart.kind)],
    ["low", value(pick(chart.low), chart.kind)],
    ["high", value(pick(chart.high), chart.kind)],
    ["deviation", deviation === null || deviation === undefined ? "–" : signed(deviation), true],
    ["how rare", (pick(chart.return_period_seconds) ?? 0) > chart.period_seconds * 2 ? rarity(pick(chart.return_period_seconds)) : "nothing unusual"],
  ] as const;
  return (
    <Section title="Reading" note={at && time(at, chart.zone)}>
      <table className="mt-1 w-full border-collapse" aria-live="polite">
        <tbody>
          {rows.map(([name, text, strong]) => (
            <tr key={name} className="h-[27px]"><td>{name}</td><td className={`num ${strong ? "font-[650]" : ""}`}>{text}</td></tr>
          ))}
        </tbody>
      </table>
      {chart.message && <p className="mt-2 text-ink2">{chart.message}</p>}
      <p className="mt-2 text-[13px] text-ink2">
        <button className="underline decoration-pewter-line underline-offset-3" onClick={() => setWhy(!why)}>Why {value(pick(chart.expected), chart.kind)}?</button>{" "}
        {why && explain.error && explain.error.message}
        {why && explain.data && (
          <>{explain.data.parts!.map((p, i) => `${p.name} ${i === 0 || chart.kind === "share" ? value(p.amount, chart.kind) : (p.amount >= 0 ? "+" : "") + number(p.amount)}`).join(", ")}.
            {" "}Learned from {Math.round((Date.parse(explain.data.trained_to) - Date.parse(explain.data.trained_from)) / day)} days, {explain.data.excluded!.length} stretches left out.</>
        )}
      </p>
      <p className="mt-2 flex gap-4 text-[13px]">
        <button className="underline decoration-pewter-line underline-offset-3" onClick={() => setTable(!table)}>{table ? "Chart" : "Table"}</button>
        <button className="underline decoration-pewter-line underline-offset-3" onClick={() => savePNG(chart)}>PNG</button>
        <button className="underline decoration-pewter-line underline-offset-3" onClick={() => saveCSV(chart)}>CSV</button>
      </p>
    </Section>
  );
}

/** The same data as a table. */
function Values({ chart }: { chart: Chart }) {
  return (
    <div className="h-[330px] overflow-auto" tabIndex={0}>
      <table className="w-full border-collapse">
        <thead className="sticky top-0 bg-ground"><tr><th>period from ({city(chart.zone)})</th><th className="num">observed</th><th className="num">expected</th><th className="num">low</th><th className="num">high</th><th className="num">deviation</th></tr></thead>
        <tbody>
          {chart.at!.map((t, i) => (
            <tr key={t}><td>{time(t, chart.zone)}</td>{[chart.observed, chart.expected, chart.low, chart.high].map((c, k) => <td key={k} className="num">{value(c?.[i], chart.kind)}</td>)}<td className="num">{number(chart.deviation?.[i], 1)}</td></tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** What speaks against a fault, and the labelled alerts most like it. */
function Why({ id }: { id: number }) {
  const held = useHeld(id);
  if (!held.data) return null;
  const against = held.data.reasons!.filter((r) => r.push < 0).slice(0, 3).map((r) => r.theme);
  return <>told apart by {against.join(", ") || "nothing in particular"}; most like {held.data.nearest!.slice(0, 3).map((n, i) => <span key={n.id}>{i > 0 && ", "}<Link to={`/alerts/${n.id}`}>{n.id}</Link> ({n.verdict})</span>)}.</>;
}

/** The other alerts of its group: one fault is told once. */
function Together({ alert: a }: { alert: AlertDetail }) {
  const group = useGroup(a.group_id ?? undefined).data;
  if (!group) return null;
  const others = (group.members ?? []).filter((o) => o.id !== a.id);
  return (
    <Section title="Told together" note={others.length === 0 ? "alone" : <>likely from <b className="text-ink">{group.place}</b></>} right={<Link to={`/groups/${group.id}`}>group {group.id}</Link>}>
      {others.slice(0, 8).map((o) => (
        <div key={o.id} className="flex justify-between gap-4 border-b border-hair py-[5px]"><div><Link to={`/alerts/${o.id}`}>{o.sentence}</Link><div className="text-[13px] text-ink2"><code>{o.dataset}</code>, since {time(o.since, o.zone, "short")}{o.id === group.origin_alert && ", likely origin"}</div></div><Mark state={stateOf(o)} /></div>
      ))}
      {others.length > 8 && <p className="mt-1 text-ink2">and {others.length - 8} more</p>}
      {others.length === 0 && <p className="mt-2 text-ink2">{group.taken_by ? `${group.taken_by} looks after it.` : "Nobody looks after it yet."} {group.messages!.length === 0 ? "Nobody was told." : `Said to ${[...new Set(group.messages!.map((m) => m.channel))].join(", ")}.`}</p>}
    </Section>
  );
}

function Before({ alert: a }: { alert: AlertDetail }) {
  return (
    <Section title="Rang before" note={a.series_id === 0 ? "about the same source, table or job" : "the same series first, then the same monitor"}>
      {a.alike!.length === 0 && <p className="mt-2 text-ink2">{a.series_id === 0 ? "Nothing like it so far." : "This monitor has not rung before."}</p>}
      {a.alike!.map((o) => (
        <div key={o.id} className="flex justify-between gap-4 border-b border-hair py-[5px]">
          <div><Link to={`/alerts/${o.id}`}>{o.sentence}</Link><div className="text-[13px] text-ink2">{time(o.raised_at, o.zone)}</div></div>
          <Mark state={o.verdict ? (o.verdict as Verdict) : "unlabelled"} />
        </div>
      ))}
    </Section>
  );
}

function History({ alert: a }: { alert: AlertDetail }) {
  const events = [
    ...a.labels!.map((l) => ({ at: l.at, what: <>{l.verdict ? <Mark state={l.verdict as Verdict} /> : "label taken back"} <span className="text-ink2">by {l.author}{l.cause && `: ${l.cause}`}{l.note && `, “${l.note}”`}</span></> })),
    ...(a.closed_at ? [{ at: a.closed_at, what: <>closed by itself <span className="text-ink2">{a.close_reason.replaceAll("_", " ")}</span></> }] : []),
    { at: a.raised_at, what: <>{a.series_id === 0 ? "raised" : `raised by the ${a.cause} rule`}{a.from_history && <span className="text-ink2">, found in the past when the monitor was fitted</span>}</> },
    { at: a.since, what: <>{a.series_id === 0 ? "it began" : "first deviating period"}</> },
  ].sort((x, y) => Date.parse(y.at) - Date.parse(x.at));
  return (
    <Section title="History" right={`times in ${city(a.zone)}`}>
      {events.map((e, i) => (
        <div key={i} className="flex gap-4 border-b border-hair py-[5px]"><span className="w-36 shrink-0 text-ink2">{time(e.at, a.zone)}</span><span>{e.what}</span></div>
      ))}
    </Section>
  );
}
