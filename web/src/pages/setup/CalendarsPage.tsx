import { useState } from "react";
import { useNow, usePlanned } from "../../api/queries";
import {
  useAddEvent,
  useCalendars,
  useDropCalendar,
  useDropEvent,
  useFeeds,
  useFetchFeed,
  useSuggestions,
  useUnfollow,
} from "../../api/telling";
import { useZone } from "../../parts/zone";
import { Mark } from "../../parts/Mark";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { city, count, duration, time, word } from "../../parts/words";
import { AddEvent, Import, does } from "./AddEvents";
import { Places } from "./Places";
import { Button, Refusal } from "../../parts/Form";
import { Sure } from "../../parts/Ask";
import type { PlannedEvent } from "../../api/client";
import { type Column, Table } from "../../parts/Table";

const day = 86_400_000;
/** How long an event lasts, in seconds. */
const lasts = (e: PlannedEvent) => (Date.parse(e.ended_at) - Date.parse(e.started_at)) / 1000;

const columns = (zone: string): Column<PlannedEvent>[] => [
  {
    id: "from",
    head: "from",
    fixed: true,
    className: "whitespace-nowrap",
    by: (e) => e.started_at,
    cell: (e) => time(e.started_at, zone),
  },
  { id: "lasts", head: "lasts", className: "text-ink2", by: lasts, cell: (e) => duration(lasts(e)) },
  {
    id: "event",
    head: "event",
    by: (e) => e.summary,
    cell: (e) => <Mark state="planned" word={e.summary} />,
  },
  {
    id: "for",
    head: "for",
    by: (e) => e.dataset,
    cell: (e) => (e.dataset ? <code>{e.dataset}</code> : <span className="text-ink2">all</span>),
  },
  {
    id: "does",
    head: "does",
    className: "text-ink2",
    cell: (e) => (e.holiday ? "a day like a Sunday" : does[e.effect]),
  },
  {
    id: "calendar",
    head: "calendar",
    className: "text-ink2",
    by: (e) => e.calendar,
    cell: (e) => e.calendar,
  },
];

/** Planned events and holidays: what is known beforehand explains itself. */
export function CalendarsPage() {
  const events = usePlanned(),
    calendars = useCalendars();
  const zone = useZone() ?? "UTC";
  const [past, setPast] = useState(false);
  const dropEvent = useDropEvent(),
    dropCalendar = useDropCalendar();
  const now = useNow();
  const all = events.data ?? [];
  const shown = all
    .filter((e) =>
      past
        ? Date.parse(e.ended_at) <= now && Date.parse(e.ended_at) > now - 365 * day
        : Date.parse(e.ended_at) > now && Date.parse(e.started_at) < now + 200 * day,
    )
    .sort((a, b) => (past ? -1 : 1) * (Date.parse(a.started_at) - Date.parse(b.started_at)));
  const next = all
    .filter((e) => Date.parse(e.started_at) > now)
    .sort((a, b) => Date.parse(a.started_at) - Date.parse(b.started_at))[0];
  const wrong = dropEvent.error ?? dropCalendar.error;
  return (
    <Page
      place={<Places here="calendars" />}
      sentence={
        !events.data
          ? ""
          : next
            ? `${next.holiday ? "The next day off" : "Next planned"} is ${next.summary}, ` +
              `${time(next.started_at, zone, next.holiday ? "day" : "full")}.`
            : "Nothing is planned ahead."
      }
      after="What is planned explains unusual values: it is drawn violet on every chart."
    >
      <Trouble what="Planned events" error={events.error} />
      {events.isPending && <Reading what="planned events" />}
      <Refusal error={wrong} className="mt-2" />
      <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_340px] gap-8">
        <div>
          <Suggested zone={zone} />
          <Section
            title={past ? "The last year" : "Ahead"}
            note={`${count(shown.length, "event")}; times in ${city(zone)}`}
            right={
              <Button look="text" onClick={() => setPast(!past)}>
                {past ? "ahead" : "the last year"}
              </Button>
            }
          >
            <Table
              name="events"
              words={(e) => `${e.summary} ${e.dataset} ${e.calendar}`}
              className="mt-1"
              columns={columns(zone)}
              rows={shown}
              id={(e) => `${e.calendar}${e.uid}${e.started_at}`}
              after={(e) =>
                e.calendar === "by hand" && (
                  <Sure
                    asks={`Remove ${e.summary}?`}
                    says="It goes with all its times, and what it concerned is fitted again."
                    does="Remove it"
                    act={() => dropEvent.mutate(e.uid)}
                  >
                    remove
                  </Sure>
                )
              }
            />
            {events.data && shown.length === 0 && (
              <p className="mt-2 text-ink2">
                {past
                  ? "Nothing was planned."
                  : "Add an event, import a calendar, or take a country's holidays."}
              </p>
            )}
          </Section>
        </div>
        <div className="grid content-start gap-6">
          <AddEvent zone={zone} />
          <Import />
          <Section title="Calendars" note={word(calendars.data?.length ?? 0).toLowerCase()}>
            {(calendars.data ?? []).map((c) => (
              <div key={c.name} className="border-b border-hair py-[5px]">
                <div className="flex justify-between gap-3">
                  <span>
                    {c.name}
                    <span className="ml-2 text-[13px] text-ink2">
                      {c.country ? `holidays of ${c.country}` : does[c.effect]}
                    </span>
                  </span>
                  <Sure
                    asks={`Remove the calendar ${c.name}?`}
                    says="It goes with all its events, and what they concerned is fitted again."
                    does="Remove it"
                    act={() => dropCalendar.mutate(c.name)}
                  >
                    remove
                  </Sure>
                </div>
                <Fetched name={c.name} zone={zone} />
              </div>
            ))}
          </Section>
        </div>
      </div>
    </Page>
  );
}

/** Where a calendar is fetched from, and what became of it. */
function Fetched({ name, zone }: { name: string; zone: string }) {
  const feed = useFeeds().data?.find((f) => f.calendar === name),
    fetch = useFetchFeed(),
    end = useUnfollow();
  if (!feed) return null;
  return (
    <p className="text-[13px] text-ink2">
      {feed.failing_since ? (
        <span className="text-verm">
          cannot be fetched since {time(feed.failing_since, zone)}: {feed.message}; the last good copy stays
        </span>
      ) : (
        <>
          from {feed.host}, {feed.fetched_at && time(feed.fetched_at, zone)}
        </>
      )}
      <Button look="text" className="ml-3" disabled={fetch.isPending} onClick={() => fetch.mutate(name)}>
        {fetch.isPending ? "fetching" : "fetch now"}
      </Button>
      <Button look="text" className="ml-3" onClick={() => end.mutate(name)}>
        fetch no more
      </Button>
    </p>
  );
}

/** What people call planned again and again: one click puts it into the calendar. */
function Suggested({ zone }: { zone: string }) {
  const list = useSuggestions().data ?? [],
    add = useAddEvent();
  if (list.length === 0) return null;
  return (
    <Section
      className="mb-6"
      title="Planned again and again"
      note="from alerts that people labelled planned; not in a calendar yet"
    >
      {list.map((s) => (
        <div
          key={s.dataset + s.repeat}
          className="flex items-baseline justify-between gap-4 border-b border-hair py-[6px]"
        >
          <div>
            <b className="font-[650]">{s.summary}</b> at <code>{s.dataset}</code>
            <div className="text-ink2">
              {s.repeat.replaceAll(";", ", ").toLowerCase()}, next {time(s.from, zone)},{" "}
              {duration((Date.parse(s.to) - Date.parse(s.from)) / 1000)}; seen {s.seen} of {s.due} times
            </div>
          </div>
          <Button
            disabled={add.isPending}
            look="primary"
            onClick={() =>
              add.mutate({
                summary: s.summary,
                from: s.from,
                to: s.to,
                dataset: s.dataset,
                repeat: s.repeat,
                zone: s.zone,
              })
            }
          >
            Put into the calendar
          </Button>
        </div>
      ))}
      <Refusal error={add.error} className="mt-1" />
    </Section>
  );
}
