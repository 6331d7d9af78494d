import { useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Alert, GroupRow, Health } from "../api/client";
import { useAlerts, useChart, useHealth, useHour, useIncidents, useLineage, useNow } from "../api/queries";
import { useChannels, useGroups, usePromises, useTakeGroup } from "../api/telling";
import { useWidth } from "../chart/width";
import { Mark } from "../parts/Mark";
import { Button, Refusal } from "../parts/Form";
import { Key } from "../parts/keys";
import { later } from "../parts/later";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { count, duration, rarity, time, word } from "../parts/words";
import { cx } from "../parts/cx";
import { wider } from "../parts/period";

const SmallChart = later(
  () => import("../chart/Small").then((m) => m.SmallChart),
  <div className="h-[84px] bg-well" />,
);
const DayStrip = later(() => import("../chart/Small").then((m) => m.DayStrip), <div />);

const day = 86_400_000;

function sentence(open: GroupRow[]): string {
  if (open.length === 0) return "Nothing is wrong: everything arrives as expected.";
  const critical = open.filter((g) => g.severity === "critical");
  const lead = `${word(open.length)} ${open.length === 1 ? "thing is" : "things are"} wrong`;
  const how =
    critical.length && open.length > 1
      ? `, ${critical.length === open.length ? "all" : word(critical.length).toLowerCase()} of them critical`
      : critical.length
        ? ", critical"
        : "";
  return `${lead}${how}: ${open[0].sentence}.`;
}

/** Most urgent first: nobody looks after it, critical before warning, the newest. */
const sorted = (open: GroupRow[]) =>
  [...open].sort(
    (a, b) =>
      Number(!!a.taken_by || a.answered > 0) - Number(!!b.taken_by || b.answered > 0) ||
      Number(b.severity === "critical") - Number(a.severity === "critical") ||
      Date.parse(b.opened_at) - Date.parse(a.opened_at),
  );

export function NowPage() {
  const now = useNow();
  const open = useGroups({ state: "open", limit: 200 });
  const alerts = useAlerts({ state: "open", limit: 1000 });
  const take = useTakeGroup();
  const channels = useChannels(),
    promises = usePromises();
  const weekFrom = new Date(useHour() - 7 * day).toISOString();
  const week = useAlerts({ from: weekFrom, limit: 500 });
  const health = useHealth();
  const go = useNavigate();
  const [chosen, choose] = useState(0);
  const list = sorted(open.data?.groups ?? []);
  const unreached = (channels.data ?? []).filter((c) => c.failing_since && !c.paused);
  const behind = (promises.data ?? []).filter(
    (p) => !p.paused && (p.standing === "behind" || p.standing === "missed"),
  );
  const late = (health.data ?? []).filter((h) => h.load?.overdue);
  const told = week.data?.alerts ?? [];
  const by = (v: string) => told.filter((a) => a.verdict === v).length;
  const keys = {
    J: { does: "down", act: () => choose(Math.min(chosen + 1, list.length - 1)) },
    K: { does: "up", act: () => choose(Math.max(chosen - 1, 0)) },
    T: {
      does: list[chosen]?.taken_by ? "give back" : "look after it",
      act: () => list[chosen] && take.mutate({ id: list[chosen].id, back: !!list[chosen].taken_by }),
    },
    Enter: { does: "open", act: () => list[chosen] && go(`/groups/${list[chosen].id}`) },
  };
  return (
    <Page
      place="Now"
      keys={keys}
      sentence={health.data?.length === 0 ? "Nothing is watched yet." : open.data ? sentence(list) : ""}
      after={
        week.data &&
        (late.length === 0
          ? "No load is overdue."
          : `${word(late.length)} ${late.length === 1 ? "load is" : "loads are"} overdue.`) +
          " " +
          `In the last 7 days ${count(told.length, "alert")} ` +
          `${told.length === 1 ? "was" : "were"} raised: ${count(by("fault"), "fault")}, ` +
          `${by("noise")} noise, ${by("planned")} planned, ${by("")} without an answer.`
      }
    >
      <Trouble what="Groups" error={open.error} />
      {health.data?.length === 0 && <Begin />}
      <Refusal error={take.error} className="mt-2" />
      {unreached.map((c) => (
        <p key={c.id} role="alert" className="mt-2 border-t border-verm pt-2 text-verm">
          <Link to="/setup/telling">{c.name}</Link> has not been reached since{" "}
          {time(c.failing_since!, "UTC", "short")} UTC: {c.message}. What is to be said waits.
        </p>
      ))}
      <div className="mt-[14px] grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_364px] gap-7">
        <Section
          title="Open"
          note="alerts of one cause together, most urgent first"
          right={<Link to="/alerts">all alerts</Link>}
        >
          {open.isPending && <Reading what="what is open" />}
          {open.data && list.length === 0 && (
            <p className="mt-3 text-ink2">
              Nothing to answer. <Link to="/alerts">Look at past alerts</Link>.
            </p>
          )}
          {list.map((g, i) => (
            <Entry
              key={g.id}
              group={g}
              lead={alerts.data?.alerts?.find((a) => a.id === g.lead)}
              now={now}
              chosen={i === chosen}
              first={i === 0}
              take={() => take.mutate({ id: g.id, back: !!g.taken_by })}
            />
          ))}
        </Section>
        <Section title="Overdue and due next" right={`${late.length} late`}>
          {behind.map((p) => (
            <p key={p.name} className="mt-2">
              <Mark state={p.standing as "behind"} word={p.standing} /> <Link to="/slas">{p.name}</Link>{" "}
              <span className="text-ink2">
                {p.have} of {p.at_least} {p.counts} by {time(p.window_to, p.zone, "time")}
              </span>
            </p>
          ))}
          <Due health={health.data ?? []} now={now} />
        </Section>
      </div>
      <LastDay health={health.data ?? []} now={now} />
    </Page>
  );
}

/** The way from nothing to the first band. */
const Begin = () => (
  <ol className="mt-4 max-w-[760px] list-decimal pl-5 text-[15px] leading-[26px]">
    <li>
      <Link to="/setup">Connect a warehouse or a folder</Link>: a login that may only read is enough.
    </li>
    <li>Choose a table and what to measure of it; its past is measured at once.</li>
    <li>Take the monitors that are proposed, and see what they would have told in the last weeks.</li>
  </ol>
);

function Entry({
  group: g,
  lead: a,
  now,
  chosen,
  first,
  take,
}: {
  group: GroupRow;
  lead: Alert | undefined;
  now: number;
  chosen: boolean;
  /** The one to be done first says more. */
  first: boolean;
  take: () => void;
}) {
  const hour = 3_600_000;
  const end = Math.ceil(now / hour) * hour;
  const [box, width] = useWidth<HTMLDivElement>();
  const daily = (a?.period_seconds ?? 0) >= 86400;
  const chart = useChart(
    a?.series_id || undefined,
    new Date(end - 4 * day * wider(a?.period_seconds ?? 0, 7)),
    new Date(end + (daily ? 0 : 6 * hour)),
  );
  const others = g.alerts - 1;
  const dataset = g.datasets.includes(g.origin) ? g.origin : g.datasets[0];
  return (
    <article
      aria-current={chosen}
      data-group={g.id}
      className={cx(
        "relative grid grid-cols-[104px_minmax(0,1fr)_minmax(304px,36%)] gap-x-4 gap-y-2 border-b",
        "border-rule py-[8px] last:border-0 max-md:grid-cols-1",
      )}
    >
      {chosen && <i className="absolute top-[14px] -left-[15px] size-[7px] rounded-full bg-brass-mark" />}
      <div>
        <Mark state={a?.cause === "overdue" ? "overdue" : g.severity} />
        <div className="mt-[3px] text-ink2">since {time(g.began_at, g.zone, "short")}</div>
        <div className="text-ink2">{duration((now - Date.parse(g.began_at)) / 1000)}</div>
      </div>
      <div>
        <Link to={`/groups/${g.id}`} className="text-[15px] leading-[18px] font-[650]">
          {g.sentence}
        </Link>
        {others > 0 && (
          <div className="mt-[3px]">
            and {count(others, "alert")} more
            {g.datasets.length > 1 ? ` in ${g.datasets.length} datasets` : ""}; likely from{" "}
            <b className="font-semibold">{g.place}</b>
          </div>
        )}
        <div className="mt-[3px] text-ink2">
          {dataset ? (
            <Link to={`/datasets/${dataset}`}>
              <code>{dataset}</code>
            </Link>
          ) : (
            <code>{a?.source || a?.job}</code>
          )}
          {g.owner && `, ${g.owner}`}
        </div>
        <div className="mt-[3px] text-ink2">
          {g.taken_by
            ? `${g.taken_by} looks after it`
            : g.answered > 0
              ? "answered"
              : "nobody looks after it"}
          {!!a?.series_id && !!a.return_period_seconds && `; ${rarity(a.return_period_seconds)}`}
        </div>
        {first && g.origin && <Below name={g.origin} />}
        {(first || chosen) && (
          <Button look={first && !g.taken_by ? "primary" : "plain"} className="mt-[7px]" onClick={take}>
            {chosen && <Key name="T" />}
            {g.taken_by ? "Give it back" : "I look after it"}
          </Button>
        )}
      </div>
      <div ref={box}>
        {!a || a.series_id === 0 ? null : chart.data ? (
          <SmallChart chart={chart.data} now={now} width={width} height={82} />
        ) : (
          <div className="h-[84px] bg-well" />
        )}
      </div>
    </article>
  );
}

/** What is made from where a fault began, and gets it too. */
function Below({ name }: { name: string }) {
  const lineage = useLineage(name);
  const below = (lineage.data?.nodes ?? []).filter((n) => n.depth > 0 && n.watched).map((n) => n.name);
  if (below.length === 0) return null;
  const [shown, more] = [below.slice(0, 4), below.length - 4];
  return (
    <div className="mt-[3px] text-ink2">
      made from it:{" "}
      {shown.map((d, i) => (
        <span key={d}>
          {i > 0 && ", "}
          <Link to={`/datasets/${encodeURIComponent(d)}`}>
            <code>{d}</code>
          </Link>
        </span>
      ))}
      {more > 0 && ` and ${more} more`}
    </div>
  );
}

/** Hours alone once there are many. */
const coarse = (seconds: number) => (seconds > 7200 ? `${Math.round(seconds / 3600)} h` : duration(seconds));

/** The weekday of a time, unless it is today. */
function weekday(at: string, now: number, zone: string): string {
  const [then, today] = [time(at, zone, "day"), time(now, zone, "day")];
  return then === today ? "" : then.split(" ")[0];
}

function Due({ health, now }: { health: Health[]; now: number }) {
  const rows = health
    .flatMap(({ dataset, load }) => (load ? [{ dataset, load }] : []))
    .sort(
      (a, b) =>
        Number(b.load.overdue) - Number(a.load.overdue) ||
        Date.parse(a.load.deadline) - Date.parse(b.load.deadline),
    );
  return (
    <table className="mt-1 w-full border-collapse">
      <thead>
        <tr>
          <th className="py-1">state</th>
          <th>dataset</th>
          <th className="num">by</th>
          <td />
        </tr>
      </thead>
      <tbody>
        {rows.map(({ dataset, load }) => (
          <tr key={dataset.name} className="h-[25px]">
            <td className="pr-3">
              <Mark state={load.overdue ? "overdue" : "due"} />
            </td>
            <td className="pr-2">
              <Link className="plain text-[13px]" to={`/datasets/${dataset.name}`}>
                <code>{dataset.name}</code>
              </Link>
            </td>
            <td className="num">{time(load.deadline, dataset.zone, "time")}</td>
            <td className="num pl-3 whitespace-nowrap text-ink2">
              {load.overdue
                ? `${coarse((now - Date.parse(load.expected)) / 1000)} late`
                : weekday(load.deadline, now, dataset.zone)}
            </td>
          </tr>
        ))}
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
  const hours = Array.from(
    { length: 8 },
    (_, k) => Math.ceil(from / 3_600_000) * 3_600_000 + k * 3 * 3_600_000,
  ).filter((t) => t < now);
  const urgent = (h: Health) => (h.worst === "critical" ? 0 : h.worst ? 1 : 2);
  return (
    <Section
      className="mt-5"
      title="Last 24 hours"
      note="each row: alerts above its line, incidents below, a tick for every load"
      right={<Link to="/datasets">{health.length === 1 ? "its page" : `all ${health.length} datasets`}</Link>}
    >
      <div ref={box} className="relative isolate mt-1">
        <div className="relative ml-[188px] h-[17px] text-[12px] text-ink3">
          {hours.map((t) => (
            <span key={t} className="absolute" style={{ left: ((t - from) / day) * inner + 4 }}>
              {time(t, zone, "time")}
            </span>
          ))}
        </div>
        {[...health]
          .sort((a, b) => urgent(a) - urgent(b))
          .map((h) => (
            <div key={h.dataset.name} className="grid grid-cols-[188px_minmax(0,1fr)] items-center">
              <Link to={`/datasets/${h.dataset.name}`} className="plain">
                <code>{h.dataset.name}</code>
              </Link>
              <DayStrip
                width={inner}
                from={from}
                to={now}
                loads={h.loads}
                alerts={(recent.data?.alerts ?? []).filter(
                  (a) => a.dataset === h.dataset.name && (!a.closed_at || Date.parse(a.closed_at) > from),
                )}
                incidents={(incidents.data ?? []).filter(
                  (i) => i.dataset === h.dataset.name && (!i.ended_at || Date.parse(i.ended_at) > from),
                )}
              />
            </div>
          ))}
        {hours.map((t) => (
          <i
            key={t}
            className="absolute top-[14px] bottom-0 -z-10 w-px bg-hair"
            style={{ left: 188 + ((t - from) / day) * inner }}
          />
        ))}
      </div>
    </Section>
  );
}
