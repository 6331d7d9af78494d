import { type FormEvent, useState } from "react";
import { useNow, usePlanned } from "../../api/queries";
import {
  useAddEvent,
  useAddHolidays,
  useCalendars,
  useCountries,
  useDropCalendar,
  useDropEvent,
  useFeeds,
  useFetchFeed,
  useFollow,
  useHealthNames,
  useImportCalendar,
  useSuggestions,
  useUnfollow,
} from "../../api/telling";
import { useZone } from "../../parts/zone";
import { Mark } from "../../parts/Mark";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { city, count, duration, time, word } from "../../parts/words";
import { Places } from "./Places";
import { Button, Field, Form, Refusal, field } from "../../parts/Form";
import { Option, Select } from "../../parts/Select";
import { Sure } from "../../parts/Ask";
import type { PlannedEvent } from "../../api/client";
import { type Column, Table } from "../../parts/Table";

const day = 86_400_000;
const does = {
  mute: "neither judged nor learned from",
  widen: "judged by a wider band, not learned from",
  "leave out": "judged as ever, not learned from",
} as const;
type Effect = keyof typeof does;

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

const repeats = [
  ["", "once"],
  ["FREQ=DAILY", "every day"],
  ["FREQ=WEEKLY", "every week"],
  ["FREQ=MONTHLY", "every month"],
] as const;

function AddEvent({ zone }: { zone: string }) {
  const add = useAddEvent(),
    datasets = useHealthNames();
  const [effect, setEffect] = useState<Effect>("mute");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = e.currentTarget,
      f = new FormData(form),
      text = (k: string) => String(f.get(k) ?? "");
    add.mutate(
      {
        summary: text("summary"),
        from: new Date(text("from")).toISOString(),
        to: new Date(text("to")).toISOString(),
        dataset: text("dataset"),
        effect,
        repeat: text("repeat"),
        zone,
      },
      { onSuccess: () => form.reset() },
    );
  };
  return (
    <Section title="Add an event">
      <Form error={add.error} className="mt-2 grid gap-2" aria-label="new event" onSubmit={submit}>
        <Field label="What" of="summary">
          <input name="summary" required className={field} placeholder="maintenance night" />
        </Field>
        <Field label="From" of="from">
          <input name="from" type="datetime-local" required className={field} />
        </Field>
        <Field label="To" of="to">
          <input name="to" type="datetime-local" required className={field} />
        </Field>
        <Field label="Repeats" of="repeat">
          <Select name="repeat" className="w-full">
            {repeats.map(([v, t]) => (
              <Option key={v} value={v}>
                {t}
              </Option>
            ))}
          </Select>
        </Field>
        <Field label="For" of="dataset">
          <Select name="dataset" className="w-full">
            <Option value="">for all datasets</Option>
            {datasets.map((d) => (
              <Option key={d}>{d}</Option>
            ))}
          </Select>
        </Field>
        <Field label="Does">
          <Select value={effect} onChange={(v) => setEffect(v as Effect)} className="w-full">
            {Object.entries(does).map(([v, t]) => (
              <Option key={v} value={v}>
                {t}
              </Option>
            ))}
          </Select>
        </Field>
        <Button type="submit" disabled={add.isPending} look="primary">
          Add event
        </Button>
        {add.data && !add.error && (
          <p role="status" className="text-ink2">
            Added, {count(add.data.length, "time")}; what it concerns is fitted again.
          </p>
        )}
      </Form>
    </Section>
  );
}

function Import() {
  const load = useImportCalendar(),
    holidays = useAddHolidays(),
    countries = useCountries(),
    follow = useFollow();
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = e.currentTarget,
      f = new FormData(form);
    follow.mutate(
      { name: String(f.get("name")), address: String(f.get("address")), effect },
      { onSuccess: () => form.reset() },
    );
  };
  const [effect, setEffect] = useState<Effect>("mute");
  return (
    <Section title="From a file, an address, or a country">
      <div className="mt-2 grid gap-2">
        <Field label="Events of the file are">
          <Select value={effect} onChange={(v) => setEffect(v as Effect)} className="w-full">
            {Object.entries(does).map(([v, t]) => (
              <Option key={v} value={v}>
                {t}
              </Option>
            ))}
          </Select>
        </Field>
        <label className="cursor-pointer border border-ink px-4 py-[4px] text-center">
          Import an iCalendar file
          <input
            type="file"
            accept=".ics,text/calendar"
            className="sr-only"
            onChange={(e) => e.target.files?.[0] && load.mutate({ file: e.target.files[0], effect })}
          />
        </label>
        {load.data && (
          <p role="status" className="text-ink2">
            {count(load.data.length, "event")} imported.
          </p>
        )}
        <Refusal error={load.error} />
        <Form
          error={follow.error}
          className="grid grid-cols-[110px_1fr_auto] items-end gap-2"
          aria-label="follow a calendar"
          onSubmit={submit}
        >
          <Field label="Calendar" of="name">
            <input name="name" required className={field} />
          </Field>
          <Field label="Address" of="address">
            <input name="address" required type="url" className={field} placeholder="https://…/a.ics" />
          </Field>
          <Button type="submit" disabled={follow.isPending}>
            {follow.isPending ? "…" : "Follow"}
          </Button>
        </Form>
        <Field label="Holidays of a country">
          <Select value="" onChange={(v) => v && holidays.mutate(v)} className="w-full">
            <Option value="">choose one</Option>
            {(countries.data ?? []).map((c) => (
              <Option key={c}>{c}</Option>
            ))}
          </Select>
        </Field>
        {holidays.data && (
          <p role="status" className="text-ink2">
            {count(holidays.data.length, "holiday")} until two years ahead.
          </p>
        )}
        <Refusal error={holidays.error} />
      </div>
    </Section>
  );
}
