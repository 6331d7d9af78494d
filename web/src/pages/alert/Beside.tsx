import { Link } from "react-router";
import type { AlertDetail } from "../../api/client";
import { useGroup } from "../../api/telling";
import { Mark, stateOf } from "../../parts/Mark";
import { Section } from "../../parts/Page";
import { city, time } from "../../parts/words";

/** The other alerts of its group: one fault is told once. */
export function Together({ alert: a }: { alert: AlertDetail }) {
  const group = useGroup(a.group_id ?? undefined).data;
  if (!group) return null;
  const others = group.members.filter((o) => o.id !== a.id);
  return (
    <Section
      title="Told together"
      note={
        others.length === 0 ? (
          "alone"
        ) : (
          <>
            likely from <b className="text-ink">{group.place}</b>
          </>
        )
      }
      right={<Link to={`/groups/${group.id}`}>group {group.id}</Link>}
    >
      {others.slice(0, 8).map((o) => (
        <div key={o.id} className="flex justify-between gap-4 border-b border-hair py-[5px]">
          <div>
            <Link to={`/alerts/${o.id}`}>{o.sentence}</Link>
            <div className="text-[13px] text-ink2">
              <code>{o.dataset}</code>, since {time(o.since, o.zone, "short")}
              {o.id === group.origin_alert && ", likely origin"}
            </div>
          </div>
          <Mark state={stateOf(o)} />
        </div>
      ))}
      {others.length > 8 && <p className="mt-1 text-ink2">and {others.length - 8} more</p>}
      {others.length === 0 && (
        <p className="mt-2 text-ink2">
          {group.taken_by ? `${group.taken_by} looks after it.` : "Nobody looks after it yet."}{" "}
          {group.messages.length === 0
            ? "Nobody was told."
            : `Said to ${[...new Set(group.messages.map((m) => m.channel))].join(", ")}.`}
        </p>
      )}
    </Section>
  );
}

export function Before({ alert: a }: { alert: AlertDetail }) {
  return (
    <Section
      title="Rang before"
      note={
        a.series_id === 0
          ? "about the same source, table or job"
          : "the same series first, then the same monitor"
      }
    >
      {a.alike.length === 0 && (
        <p className="mt-2 text-ink2">
          {a.series_id === 0 ? "Nothing like it so far." : "This monitor has not rung before."}
        </p>
      )}
      {a.alike.map((o) => (
        <div key={o.id} className="flex justify-between gap-4 border-b border-hair py-[5px]">
          <div>
            <Link to={`/alerts/${o.id}`}>{o.sentence}</Link>
            <div className="text-[13px] text-ink2">{time(o.raised_at, o.zone)}</div>
          </div>
          <Mark state={o.verdict ? o.verdict : "unlabelled"} />
        </div>
      ))}
    </Section>
  );
}

export function History({ alert: a }: { alert: AlertDetail }) {
  const events = [
    ...a.labels.map((l) => ({
      at: l.at,
      what: (
        <>
          {l.verdict ? <Mark state={l.verdict} /> : "label taken back"}{" "}
          <span className="text-ink2">
            by {l.author}
            {l.cause && `: ${l.cause}`}
            {l.note && `, “${l.note}”`}
          </span>
        </>
      ),
    })),
    ...(a.closed_at
      ? [
          {
            at: a.closed_at,
            what: (
              <>
                closed by itself <span className="text-ink2">{a.close_reason.replaceAll("_", " ")}</span>
              </>
            ),
          },
        ]
      : []),
    {
      at: a.raised_at,
      what: (
        <>
          {a.series_id === 0 ? "raised" : `raised by the ${a.cause} rule`}
          {a.from_history && (
            <span className="text-ink2">, found in the past when the monitor was fitted</span>
          )}
        </>
      ),
    },
    { at: a.since, what: <>{a.series_id === 0 ? "it began" : "first deviating period"}</> },
  ].sort((x, y) => Date.parse(y.at) - Date.parse(x.at));
  return (
    <Section title="History" right={`times in ${city(a.zone)}`}>
      {events.map((e, i) => (
        <div key={i} className="flex gap-4 border-b border-hair py-[5px]">
          <span className="w-36 shrink-0 text-ink2">{time(e.at, a.zone)}</span>
          <span>{e.what}</span>
        </div>
      ))}
    </Section>
  );
}
