import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Alert, GroupDetail, Verdict } from "../api/client";
import { useChart, useLabel, useMe, useNow } from "../api/queries";
import {
  useChannels,
  useGroup,
  useGroups,
  useJoinGroup,
  usePartGroup,
  useSnoozeGroup,
  useTakeGroup,
  useTellGroup,
} from "../api/telling";
import { useWidth } from "../chart/width";
import { SmallChart } from "../chart/Small";
import { Mark, stateOf } from "../parts/Mark";
import { Messages } from "../parts/Messages";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { city, count, duration, time } from "../parts/words";
import { Button, Refusal } from "../parts/Form";
import { Option, Select } from "../parts/Select";
import { cx } from "../parts/cx";
import { AnswerBar } from "../parts/AnswerBar";
import { wider } from "../parts/period";

const hour = 3_600_000,
  day = 24 * hour;

/** A group: what belongs together, where it likely began, what was said to whom. */
export function GroupPage() {
  const id = Number(useParams().id);
  const me = useMe();
  const group = useGroup(id);
  if (group.error)
    return (
      <Page place={`Group ${id}`} sentence={`There is no group ${id}.`}>
        <Trouble what="The group" error={group.error} />
      </Page>
    );
  if (!group.data || !me.data)
    return (
      <Page place={`Group ${id}`} sentence="">
        <Reading what="the group" />
      </Page>
    );
  return <Shown group={group.data} asked={id} now={Date.parse(me.data.now)} />;
}

function Shown({ group: g, asked, now }: { group: GroupDetail; asked: number; now: number }) {
  const take = useTakeGroup(),
    label = useLabel();
  const members = g.members;
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const answer = (verdict: Verdict) =>
    label.mutate({
      alerts: members.map((a) => a.id),
      verdict,
      seen: Object.fromEntries(members.map((a) => [a.id, a.label_id])),
    });
  const keys = {
    T: {
      does: g.taken_by ? "give back" : "look after it",
      act: () => take.mutate({ id: g.id, back: !!g.taken_by }),
    },
    F: { does: "fault", act: () => answer("fault") },
    N: { does: "noise", act: () => answer("noise") },
    P: { does: "planned", act: () => answer("planned") },
  };
  const lasts = g.closed_at
    ? `lasted ${duration((Date.parse(g.closed_at) - Date.parse(g.began_at)) / 1000)}`
    : `since ${time(g.began_at, g.zone)}`;
  const rest = members.length > 1 ? `, and ${count(members.length - 1, "alert")} more with it` : "";
  const wrong = label.error ?? take.error;
  return (
    <Page
      place={`Group ${g.id}`}
      keys={keys}
      sentence={`${g.sentence}${rest}, ${lasts}.`}
      after={
        <>
          {asked !== g.id && <b className="text-ink">Group {asked} turned out to be part of this one. </b>}
          Likely from <b className="text-ink">{g.place}</b>
          {g.origin_alert === null && ", which has no alert itself"}.{" "}
          {g.taken_by
            ? `${g.taken_by} looks after it since ${time(g.taken_at!, g.zone, "short")}.`
            : g.answered > 0
              ? "It has been answered."
              : "Nobody looks after it yet."}
          {g.from_history &&
            " It was found in the past, when its monitors were first fitted: nobody was told."}
        </>
      }
    >
      <Refusal error={wrong} className="mt-3" />
      <Handles g={g} />
      <Section
        className="mt-4"
        title={count(members.length, "alert")}
        note="told as one, in the order in which they were raised"
        right={`times in ${city(g.zone)}`}
      >
        {members.map((a) => (
          <Member
            key={a.id}
            alert={a}
            now={now}
            origin={members.length > 1 && a.id === g.origin_alert}
            chosen={members.length > 1 ? chosen.has(a.id) : undefined}
            choose={() => setChosen(toggled(chosen, a.id))}
          />
        ))}
        <SameFault g={g} chosen={chosen} done={() => setChosen(new Set())} />
      </Section>
      <Section
        className="mt-6 mb-16"
        title="What was said"
        note="and to whom"
        right={<Link to="/setup/telling">channels and routes</Link>}
      >
        <Messages
          list={g.messages}
          zone={g.zone}
          none={
            g.from_history
              ? "Nobody was told: it was found in the past."
              : "Nobody has been told: no route leads to a channel for it."
          }
        />
      </Section>
      <AnswerBar
        asks={`What ${members.length === 1 ? "was it" : "were they, all together"}?`}
        given={(v) => members.every((a) => a.verdict === v)}
        busy={label.isPending}
        answer={answer}
      >
        <Button
          disabled={take.isPending}
          onClick={() => take.mutate({ id: g.id, back: !!g.taken_by })}
          look="primary"
          className="ml-auto flex items-center"
        >
          {g.taken_by ? "Give it back" : "I look after it"}
        </Button>
      </AnswerBar>
    </Page>
  );
}

/** Snooze, and telling a channel by hand. */
function Handles({ g }: { g: GroupDetail }) {
  const snooze = useSnoozeGroup(),
    tell = useTellGroup(),
    channels = useChannels();
  const [to, setTo] = useState("");
  const now = useNow();
  const quiet = g.snoozed_until && Date.parse(g.snoozed_until) > now;
  return (
    <div className="mt-3 flex flex-wrap items-center gap-x-4 gap-y-2">
      {quiet ? (
        <span>
          Nothing is told of it until {time(g.snoozed_until!, g.zone)}.{" "}
          <Button look="text" onClick={() => snooze.mutate({ id: g.id, seconds: 0 })}>
            tell again
          </Button>
        </span>
      ) : (
        !g.closed_at && (
          <span className="text-ink2">
            Snooze for{" "}
            {[
              ["1 h", 3600],
              ["4 h", 14_400],
              ["1 day", 86_400],
            ].map(([name, s]) => (
              <Button
                key={name}
                look="text"
                className="ml-2 text-ink"
                onClick={() => snooze.mutate({ id: g.id, seconds: s as number })}
              >
                {name}
              </Button>
            ))}
          </span>
        )
      )}
      <span className="ml-auto inline-flex items-center gap-2 text-ink2">
        Tell
        <Select aria-label="Channel" value={to} onChange={(v) => setTo(v)}>
          <Option value="">a channel</Option>
          {(channels.data ?? []).map((c) => (
            <Option key={c.id}>{c.name}</Option>
          ))}
        </Select>
        <Button
          disabled={!to || tell.isPending}
          onClick={() => tell.mutate({ id: g.id, channel: to }, { onSuccess: () => setTo("") })}
        >
          now
        </Button>
      </span>
      {(snooze.error ?? tell.error) && (
        <span role="alert" className="text-verm">
          {(snooze.error ?? tell.error)!.message}
        </span>
      )}
    </div>
  );
}

const toggled = (set: ReadonlySet<number>, id: number) =>
  new Set(set.has(id) ? [...set].filter((x) => x !== id) : [...set, id]);

/** "Not the same" for some of its alerts, "the same" for another group: kept, and told to those who heard. */
function SameFault({ g, chosen, done }: { g: GroupDetail; chosen: ReadonlySet<number>; done: () => void }) {
  const part = usePartGroup(),
    join = useJoinGroup();
  const go = useNavigate();
  const others =
    useGroups({ limit: 60 }).data?.groups?.filter(
      (o) => o.id !== g.id && Math.abs(Date.parse(o.opened_at) - Date.parse(g.opened_at)) < 4 * day,
    ) ?? [];
  const [other, setOther] = useState("");
  const wrong = part.error ?? join.error;
  return (
    <div className="mt-2 flex flex-wrap items-center gap-x-6 gap-y-2 text-ink2">
      {g.alerts > 1 && (
        <Button
          disabled={chosen.size === 0 || chosen.size === g.alerts || part.isPending}
          onClick={() =>
            part.mutate(
              { id: g.id, alerts: [...chosen] },
              {
                onSuccess: (made) => {
                  done();
                  go(`/groups/${made.id}`);
                },
              },
            )
          }
        >
          {chosen.size === 0
            ? "Mark alerts that are another fault"
            : `Not the same fault: ${count(chosen.size, "alert")}`}
        </Button>
      )}
      {others.length > 0 && (
        <span className="ml-auto inline-flex items-center gap-2">
          The same fault as
          <Select
            aria-label="Another group"
            value={other}
            onChange={(v) => setOther(v)}
            className="max-w-[360px]"
          >
            <Option value="">another group</Option>
            {others.map((o) => (
              <Option key={o.id} value={o.id}>
                {o.id}: {o.sentence}
              </Option>
            ))}
          </Select>
          <Button
            disabled={!other || join.isPending}
            onClick={() => join.mutate({ id: g.id, group: Number(other) }, { onSuccess: () => setOther("") })}
          >
            join them
          </Button>
        </span>
      )}
      {wrong && (
        <span role="alert" className="text-verm">
          {wrong.message}
        </span>
      )}
    </div>
  );
}

function Member({
  alert: a,
  now,
  origin,
  chosen,
  choose,
}: {
  alert: Alert;
  now: number;
  origin: boolean;
  chosen: boolean | undefined;
  choose: () => void;
}) {
  const end = Math.ceil(Math.min(a.closed_at ? Date.parse(a.closed_at) + day : now, now) / hour) * hour;
  const [box, width] = useWidth<HTMLDivElement>();
  const chart = useChart(
    a.series_id || undefined,
    new Date(end - 4 * day * wider(a.period_seconds, 7)),
    new Date(end + (a.period_seconds >= 86400 ? 0 : 6 * hour)),
  );
  return (
    <article
      className={cx(
        "grid grid-cols-[120px_minmax(0,1fr)_minmax(304px,40%)] gap-x-4 gap-y-2 border-b max-md:grid-cols-1",
        "border-rule py-[7px] last:border-0",
      )}
    >
      <div>
        <span className="inline-flex items-center gap-2">
          {chosen !== undefined && (
            <input
              type="checkbox"
              aria-label={`Alert ${a.id} is another fault`}
              checked={chosen}
              onChange={choose}
            />
          )}
          <Mark state={stateOf(a)} />
        </span>
        {origin && <div className="mt-[2px] font-semibold">likely origin</div>}
        <div className="mt-[2px] text-ink2">since {time(a.since, a.zone, "short")}</div>
      </div>
      <div>
        <Link to={`/alerts/${a.id}`} className="font-[650]">
          {a.sentence}
        </Link>
        <div className="mt-[3px] text-ink2">
          {a.dataset ? (
            <Link to={`/datasets/${a.dataset}`}>
              <code>{a.dataset}</code>
            </Link>
          ) : (
            <code>{a.source || a.job}</code>
          )}
          {a.owner && `, ${a.owner}`}; told {time(a.raised_at, a.zone, "short")}
          {a.closed_at && `, over ${time(a.closed_at, a.zone, "short")}`}
        </div>
      </div>
      <div ref={box}>
        {a.series_id === 0 ? null : chart.data ? (
          <SmallChart chart={chart.data} now={now} width={width} height={72} />
        ) : (
          <div className="h-[72px] bg-well" />
        )}
      </div>
    </article>
  );
}
