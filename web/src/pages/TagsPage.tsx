import { Link, useParams } from "react-router";
import { useScoreOfTag } from "../api/learning";
import { useAlerts } from "../api/queries";
import { useTags } from "../api/tags";
import { Interval } from "../chart/Interval";
import { Mark, type State, stateOf } from "../parts/Mark";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { count, duration, percent, time, word } from "../parts/words";
import { cx } from "../parts/cx";
import { type Column, Table } from "../parts/Table";
import type { Tag } from "../api/client";

const columns: Column<Tag>[] = [
  {
    id: "tag",
    head: "tag",
    fixed: true,
    by: (t) => t.name,
    cell: (t) => <Link to={`/tags/${encodeURIComponent(t.name)}`}>{t.name}</Link>,
  },
  {
    id: "datasets",
    head: "datasets",
    num: true,
    by: (t) => t.datasets.length,
    cell: (t) => t.datasets.length,
  },
  { id: "metrics", head: "metrics", num: true, by: (t) => t.metrics.length, cell: (t) => t.metrics.length },
  {
    id: "monitors",
    head: "monitors",
    num: true,
    by: (t) => t.monitors.length,
    cell: (t) => t.monitors.length,
  },
  {
    id: "open",
    head: "open alerts",
    num: true,
    className: "pr-8",
    by: (t) => t.open_alerts,
    cell: (t) =>
      t.open_alerts > 0 ? (
        <Link className="font-bold text-verm" to={`/alerts?show=open&tag=${encodeURIComponent(t.name)}`}>
          {t.open_alerts}
        </Link>
      ) : (
        <span className="text-ink3">none</span>
      ),
  },
  {
    id: "told",
    head: "told on",
    by: (t) => t.channels.join(),
    cell: (t) => t.channels.join(", ") || <span className="text-ink3">nobody in particular</span>,
  },
];

/** All tags: what has them, who hears of it, what is open. */
export function TagsPage() {
  const tags = useTags();
  const list = tags.data ?? [];
  const ringing = list.filter((t) => t.open_alerts > 0);
  return (
    <Page
      place="Tags"
      sentence={
        !tags.data
          ? ""
          : list.length === 0
            ? "Nothing is tagged yet."
            : `${word(list.length)} ${list.length === 1 ? "tag" : "tags"}; ` +
              (ringing.length === 0
                ? "nothing that has one is alerted"
                : "alerts are open on " + ringing.map((t) => t.name).join(", ")) +
              "."
      }
      after={
        "A tag names what one audience cares about: give it to a dataset, a metric or a " +
        "monitor, on its page. Lists and scores are narrowed to it, and a route may " +
        "tell of it alone."
      }
    >
      <Trouble what="Tags" error={tags.error} />
      {tags.isPending && <Reading what="tags" />}
      {list.length > 0 && (
        <Table className="mt-4" words={(t) => t.name} columns={columns} rows={list} id={(t) => t.name} />
      )}
    </Page>
  );
}

/** What has one tag, how it stands, and how well it was told of. */
export function TagPage() {
  const name = useParams().name!;
  const tags = useTags(),
    score = useScoreOfTag(name),
    alerts = useAlerts({ tag: name, limit: 12 });
  const tag = tags.data?.find((t) => t.name === name);
  const place = (
    <>
      <Link to="/tags">Tags</Link>, {name}
    </>
  );
  if (tags.data && !tag)
    return (
      <Page place={place} sentence={`Nothing is tagged ${name}.`}>
        {null}
      </Page>
    );
  if (!tag)
    return (
      <Page place={place} sentence="">
        <Trouble what="The tag" error={tags.error} />
        <Reading what="the tag" />
      </Page>
    );
  const o = score.data?.overall;
  const open =
    tag.open_alerts === 0
      ? "nothing is alerted"
      : `${word(tag.open_alerts).toLowerCase()} ${tag.open_alerts === 1 ? "alert is" : "alerts are"} open`;
  const good =
    !o || o.precision.estimate === null
      ? ""
      : `; ${percent(o.precision.estimate)} of its labelled alerts were worth waking for`;
  return (
    <Page
      place={place}
      sentence={`Of what is tagged ${name}, ${open}${good}.`}
      after={
        tag.routes.length > 0 ? (
          <>
            Told on {tag.channels.join(", ")} by the <Link to="/setup/telling">routes</Link>{" "}
            {tag.routes.join(", ")}.
          </>
        ) : (
          <>
            No route tells of it in particular: <Link to="/setup/telling">add one</Link>.
          </>
        )
      }
    >
      <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[300px_minmax(0,1fr)] gap-[52px]">
        <div className="grid content-start gap-4">
          <Section title="Datasets" right={tag.datasets.length}>
            {tag.datasets.map((d) => (
              <div key={d} className="py-[3px]">
                <Link to={`/datasets/${d}`}>
                  <code>{d}</code>
                </Link>
              </div>
            ))}
            {tag.datasets.length === 0 && <p className="mt-1 text-ink2">none as a whole</p>}
          </Section>
          <Section title="Metrics" right={tag.metrics.length}>
            <p className="mt-1">{tag.metrics.join(", ") || <span className="text-ink2">none</span>}</p>
          </Section>
        </div>
        <div className="grid content-start gap-4">
          <Section title="Monitors" note="how well they told" right={o && <Interval figure={o.precision} />}>
            <table className="mt-1 w-full border-collapse">
              <thead>
                <tr className="border-b border-rule">
                  <th className="py-1">monitor</th>
                  <th>dataset</th>
                  <th>precision</th>
                  <th className="num">faults of labelled</th>
                  <th className="num">incidents found</th>
                  <th className="num">delay</th>
                  <th className="num">unlabelled</th>
                </tr>
              </thead>
              <tbody>
                {(score.data?.monitors ?? []).map((c) => (
                  <tr key={c.monitor} className="h-[29px]">
                    <td>
                      <Link to={`/monitors/${c.monitor}`}>{c.monitor}</Link>
                    </td>
                    <td>
                      <code>{c.dataset}</code>
                    </td>
                    <td>
                      <Interval figure={c.precision} />
                    </td>
                    <td className="num">
                      {c.faults} of {c.faults + c.noise}
                    </td>
                    <td className="num">{c.recall.n ? `${c.recall.k} of ${c.recall.n}` : "–"}</td>
                    <td className="num">
                      {c.delay_seconds.estimate === null ? "–" : duration(c.delay_seconds.estimate)}
                    </td>
                    <td className="num">{c.unlabelled}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Section>
          <Section
            title="Alerts"
            note={count(tag.open_alerts, "open", "open")}
            right={<Link to={`/alerts?tag=${encodeURIComponent(name)}`}>all of this tag</Link>}
          >
            {(alerts.data?.alerts ?? []).map((a) => (
              <div
                key={a.id}
                className={cx(
                  "grid grid-cols-[120px_minmax(0,1fr)_180px_110px] gap-4 border-b",
                  "border-hair py-[5px]",
                )}
              >
                <Mark state={a.closed_at ? (a.severity as State) : stateOf({ ...a, verdict: "" })} />
                <Link to={`/alerts/${a.id}`}>{a.sentence}</Link>
                <span>{time(a.raised_at, a.zone)}</span>
                {a.verdict ? (
                  <Mark state={a.verdict as State} />
                ) : (
                  <span className="text-ink3">unlabelled</span>
                )}
              </div>
            ))}
            {alerts.data?.alerts!.length === 0 && <p className="mt-2 text-ink2">No alert so far.</p>}
          </Section>
        </div>
      </div>
    </Page>
  );
}
