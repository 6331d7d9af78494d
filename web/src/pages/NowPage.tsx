import { lazy, Suspense, useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Alert, GroupRow, Health } from "../api/client";
import { useAlerts, useChart, useHealth, useIncidents, useMe } from "../api/queries";
import { useChannels, useGroups, usePromises } from "../api/telling";
import { useWidth } from "../chart/width";
import { Mark } from "../parts/Mark";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { count, duration, rarity, time, word } from "../parts/words";

const SmallChart = lazy(() => import("../chart/Small").then((m) => ({ default: m.SmallChart })));
const DayStrip = lazy(() => import("../chart/Small").then((m) => ({ default: m.DayStrip })));

const day = 86_400_000;

function sentence(open: GroupRow[]): string {
  if (open.length === 0) return "Nothing is wrong: everything arrives as expected.";
  const critical = open.filter((g) => g.severity === "critical");
  const lead = `${word(open.length)} ${open.length === 1 ? "thing is" : "things are"} wrong`;
  const how = critical.length && open.length > 1 ? `, ${critical.length === open.length ? "all" : word(critical.length).toLowerCase()} of them critical` : critical.length ? ", critical" : "";
  return `${lead}${how}: ${open[0].sentence}.`;
}

/** Most urgent first: nobody looks after it, critical before warning, the newest. */
const sorted = (open: GroupRow[]) =>
  [...open].sort((a, b) => Number(!!a.taken_by || a.answered > 0) - Number(!!b.taken_by || b.answered > 0) || Number(b.severity === "critical") - Number(a.severity === "critical") || Date.parse(b.opened_at) - Date.parse(a.opened_at));

export function NowPage() {
  const me = useMe();
  const now = me.data ? Date.parse(me.data.now) : Date.now();
  const open = useGroups({ state: "open", limit: 200 });
  const alerts = useAlerts({ state: "open", limit: 1000 });
  const channels = useChannels(), promises = usePromises();
  const weekFrom = useMemo(() => new Date(Math.floor(now / 3_600_000) * 3_600_000 - 7 * day).toISOString(), [Math.floor(now / 3_600_000)]);
  const week = useAlerts({ from: weekFrom, limit: 500 });
  const health = useHealth();
  const go = useNavigate();
  const [chosen, choose] = useState(0);
  const list = sorted(open.data?.groups ?? []);
  const unreached = (channels.data ?? []).filter((c) => c.failing_since && !c.paused);
  const behind = (promises.data ?? []).filter((p) => !p.paused && (p.standing === "behind" || p.standing === "missed"));
  const late = (health.data ?? []).filter((h) => h.load?.overdue);
  const told = week.data?.alerts ?? [];
  const by = (v: string) => told.filter((a) => a.verdict === v).length;
  const keys = {
    J: { does: "down", act: () => choose(Math.min(chosen + 1, list.length - 1)) },
    K: { does: "up", act: () => choose(Math.max(chosen - 1, 0)) },
    Enter: { does: "open", act: () => list[chosen] && go(`/groups/${list[chosen].id}`) },
  };
  return (
    <Page place="Now" keys={keys} sentence={open.data ? sentence(list) : ""} after={
      week.data && `${late.length === 0 ? "No load is overdue." : `${word(late.length)} ${late.length === 1 ? "load is" : "loads are"} overdue.`} In the last 7 days ${count(told.length, "alert")} ${told.length === 1 ? "was" : "were"} raised: ${count(by("fault"), "fault")}, ${by("noise")} noise, ${by("planned")} planned, ${by("")} without an answer.`}>
      <Trouble what="Groups" error={open.error} />
      {unreached.map((c) => <p key={c.id} role="alert" className="mt-2 border-t border-verm pt-2 text-verm"><Link to="/setup/telling">{c.name}</Link> has not been reached since {time(c.failing_since!, "UTC", "short")} UTC: {c.message}. What is to be said waits.</p>)}
      <div className="mt-[14px] grid grid-cols-[minmax(0,1fr)_364px] gap-7">
        <Section title="Open" note="alerts of one cause together, most urgent first" right={<Link to="/alerts">all alerts</Link>}>
          {open.isPending && <Reading what="what is open" />}
          {open.data && list.length === 0 && <p className="mt-3 text-ink2">Nothing to answer. <Link to="/alerts">Look at past alerts</Link>, or break something in the demo: <code>tinbell demo break stall raw.gate_events</code>.</p>}
          {list.map((g, i) => <Entry key={g.id} group={g} lead={alerts.data?.alerts?.find((a) => a.id === g.lead)} now={now} chosen={i === chosen} />)}
        </Section>
        <Section title="Overdue and due next" right={`${late.length} late`}>
          {behind.map((p) => <p key={p.name} className="mt-2"><Mark state={p.standing as "behind"} word={p.standing} /> <Link to="/slas">{p.name}</Link> <span className="text-ink2">{p.have} of {p.at_least} {p.counts} by {time(p.window_to, p.zone, "time")}</span></p>)}
          <Due health={health.data ?? []} now={now} />
        </Section>
      </div>
      <LastDay health={health.data ?? []} now={now} />
    </Page>
  );
}

function Entry({ group: g, lead: a, now, chosen }: { group: GroupRow; lead: Alert | undefined; now: number; chosen: boolean }) {
  const hour = 3_600_000;
  const end = Math.ceil(now / hour) * hour;
  const [box, width] = useWidth<HTMLDivElement>();
  const daily = (a?.period_seconds ?? 0) >= 86400;
  const chart = useChart(a?.series_id || undefined, new Date(end - (daily ? 28 : 4) * day), new Date(end + (daily ? 0 : 6 * hour)));
  const others = g.alerts - 1;
  const dataset = g.datasets!.includes(g.origin) ? g.origin : g.datasets![0];
  return (
    <article aria-current={chosen} data-group={g.id} className="relative grid grid-cols-[104px_minmax(0,1fr)_minmax(304px,36%)] gap-4 border-b border-rule py-[8px] last:border-0">
      {chosen && <i className="absolute top-[14px] -left-[15px] size-[7px] rounded-full bg-brass-mark" />}
      <div>
        <Mark state={a?.cause === "overdue" ? "overdue" : (g.severity as "warning")} />
        <div className="mt-[3px] text-ink2">since {time(g.began_at, g.zone, "short")}</div>
        <div className="text-ink2">{duration((now - Date.parse(g.began_at)) / 1000)}</div>
      </div>
      <div>
        <Link to={`/groups/${g.id}`} className="text-[15px] leading-[18px] font-[650]">{g.sentence}</Link>
        {others > 0 && <div className="mt-[3px]">and {count(others, "alert")} more{g.datasets!.length > 1 ? ` in ${g.datasets!.length} datasets` : ""}; likely from <b className="font-semibold">{g.place}</b></div>}
        <div className="mt-[3px] text-ink2">{dataset ? <Link to={`/datasets/${dataset}`}><code>{dataset}</code></Link> : <code>{a?.source || a?.job}</code>}{g.owner && `, ${g.owner}`}</div>
        <div className="mt-[3px] text-ink2">{g.taken_by ? `${g.taken_by} looks after it` : g.answered > 0 ? "answered" : "nobody looks after it"}{a && a.series_id !== 0 && `; ${rarity(a.return_period_seconds)}`}</div>
      </div>
      <div ref={box}>{!a || a.series_id === 0 ? null : chart.data ? <Suspense fallback={<div className="h-[84px] bg-well" />}><SmallChart chart={chart.data} now={now} width={width} height={82} /></Suspense> : <div className="h-[84px] bg-well" />}</div>
    </article>
  );
}

/** Hours alone once there are many. */
const coarse = (seconds: number) => (seconds > 36_000 ? `${Math.round(seconds / 3600)} h` : duration(seconds));

/** The weekday of a time, unless it is today. */
function weekday(at: string, now: number, zone: string): string {
  const [then, today] = [time(at, zone, "day"), time(now, zone, "day")];
  return then === today ? "" : then.split(" ")[0];
}

function Due({ health, now }: { health: Health[]; now: number }) {
  const rows = health.filter((h) => h.load).sort((a, b) => Number(b.load!.overdue) - Number(a.load!.overdue) || Date.parse(a.load!.deadline) - Date.parse(b.load!.deadline));
  return (
    <table className="mt-1 w-full border-collapse">
      <thead><tr><th className="py-1">state</th><th>dataset</th><th className="num">by</th><th className="num">{""}</th></tr></thead>
      <tbody>
        {rows.map((h) => {
          const load = h.load!;
          return (
            <tr key={h.dataset.name} className="h-[25px]">
              <td className="pr-3"><Mark state={load.overdue ? "overdue" : "due"} /></td>
              <td className="pr-2"><Link className="plain text-[13px]" to={`/datasets/${h.dataset.name}`}><code>{h.dataset.name}</code></Link></td>
              <td className="num">{time(load.deadline, h.dataset.zone, "time")}</td>
              <td className="num pl-3 whitespace-nowrap text-ink2">{load.overdue ? `${coarse((now - Date.parse(load.expected)) / 1000)} late` : weekday(load.deadline, now, h.dataset.zone)}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function LastDay({ health, now }: { health: Health[]; now: number }) {
  const from = Math.floor(now / 60_000) * 60_000 - day;
  const recent = useAlerts({ limit: 500 });
  const incidents = useIncidents();
  const [box, width] = useWidth<HTMLDivElement>();
  const inner = width - 196;
  const zone = health[0]?.dataset.zone ?? "UTC";
  const hours = Array.from({ length: 8 }, (_, k) => Math.ceil(from / 3_600_000) * 3_600_000 + k * 3 * 3_600_000).filter((t) => t < now);
  const urgent = (h: Health) => (h.worst === "critical" ? 0 : h.worst ? 1 : 2);
  return (
    <Section className="mt-5" title="Last 24 hours" note="each row: alerts above its line, incidents below, a tick for every load" right={<Link to="/datasets">all {health.length} datasets</Link>}>
      <div ref={box} className="relative isolate mt-1">
        <div className="relative ml-[188px] h-[17px] text-[12px] text-ink3">
          {hours.map((t) => <span key={t} className="absolute" style={{ left: ((t - from) / day) * inner + 4 }}>{time(t, zone, "time")}</span>)}
        </div>
        {[...health].sort((a, b) => urgent(a) - urgent(b)).map((h) => (
          <div key={h.dataset.name} className="grid grid-cols-[188px_minmax(0,1fr)] items-center">
            <Link to={`/datasets/${h.dataset.name}`} className="plain"><code>{h.dataset.name}</code></Link>
            <Suspense fallback={<div />}><DayStrip width={inner} from={from} to={now} loads={h.loads ?? []}
              alerts={(recent.data?.alerts ?? []).filter((a) => a.dataset === h.dataset.name && (!a.closed_at || Date.parse(a.closed_at) > from))}
              incidents={(incidents.data ?? []).filter((i) => i.dataset === h.dataset.name && (!i.ended_at || Date.parse(i.ended_at) > from))} /></Suspense>
          </div>
        ))}
        {hours.map((t) => <i key={t} className="absolute top-[14px] bottom-0 -z-10 w-px bg-hair" style={{ left: 188 + ((t - from) / day) * inner }} />)}
      </div>
    </Section>
  );
}
