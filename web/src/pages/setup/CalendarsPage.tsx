import { type FormEvent, useState } from "react";
import { usePlanned } from "../../api/queries";
import { useAddEvent, useAddHolidays, useCalendars, useCountries, useDropCalendar, useDropEvent, useFeeds, useFetchFeed, useFollow, useHealthNames, useImportCalendar, useSuggestions, useUnfollow } from "../../api/telling";
import { useZone } from "../../parts/Masthead";
import { Mark } from "../../parts/Mark";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { city, count, duration, time, word } from "../../parts/words";
import { Places } from "./Places";

const day = 86_400_000;
const does = { mute: "neither judged nor learned from", widen: "judged by a wider band, not learned from", "leave out": "judged as ever, not learned from" } as const;
type Effect = keyof typeof does;
const field = "w-full border border-ink3 bg-field px-2 py-[4px]";
const link = "underline decoration-pewter-line underline-offset-3";

/** Planned events and holidays: what is known beforehand explains itself. */
export function CalendarsPage() {
  const events = usePlanned(), calendars = useCalendars();
  const zone = useZone() ?? "UTC";
  const [past, setPast] = useState(false);
  const dropEvent = useDropEvent(), dropCalendar = useDropCalendar();
  const now = Date.now();
  const all = events.data ?? [];
  const shown = all.filter((e) => (past ? Date.parse(e.ended_at) <= now && Date.parse(e.ended_at) > now - 365 * day : Date.parse(e.ended_at) > now && Date.parse(e.started_at) < now + 200 * day)).sort((a, b) => (past ? -1 : 1) * (Date.parse(a.started_at) - Date.parse(b.started_at)));
  const next = all.filter((e) => Date.parse(e.started_at) > now).sort((a, b) => Date.parse(a.started_at) - Date.parse(b.started_at))[0];
  const wrong = dropEvent.error ?? dropCalendar.error;
  return (
    <Page place={<Places here="calendars" />} sentence={!events.data ? "" : next ? `${next.holiday ? "The next day off" : "Next planned"} is ${next.summary}, ${time(next.started_at, zone, next.holiday ? "day" : "full")}.` : "Nothing is planned ahead."}
      after="What is planned explains unusual values: it is drawn violet on every chart.">
      <Trouble what="Planned events" error={events.error} />
      {events.isPending && <Reading what="planned events" />}
      {wrong && <p role="alert" className="mt-2 text-verm">{wrong.message}</p>}
      <div className="mt-4 grid grid-cols-[minmax(0,1fr)_340px] gap-8">
        <div>
          <Suggested zone={zone} />
          <Section title={past ? "The last year" : "Ahead"} note={`${count(shown.length, "event")}; times in ${city(zone)}`} right={<button className={link} onClick={() => setPast(!past)}>{past ? "ahead" : "the last year"}</button>}>
            <table className="mt-1 w-full border-collapse">
              <thead><tr><th className="py-1">from</th><th>lasts</th><th>event</th><th>for</th><th>does</th><th>calendar</th><th /></tr></thead>
              <tbody>
                {shown.slice(0, 80).map((e) => (
                  <tr key={`${e.calendar}${e.uid}${e.started_at}`} className="h-[27px]">
                    <td className="whitespace-nowrap">{time(e.started_at, zone)}</td><td className="text-ink2">{duration((Date.parse(e.ended_at) - Date.parse(e.started_at)) / 1000)}</td>
                    <td><Mark state="planned" word={e.summary} /></td><td>{e.dataset ? <code>{e.dataset}</code> : <span className="text-ink2">all</span>}</td>
                    <td className="text-ink2">{e.holiday ? "a day like a Sunday" : does[e.effect as Effect]}</td><td className="text-ink2">{e.calendar}</td>
                    <td className="num">{e.calendar === "by hand" && <button className={link} onClick={() => confirm(`Remove ${e.summary} with all its times?`) && dropEvent.mutate(e.uid)}>remove</button>}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {events.data && shown.length === 0 && <p className="mt-2 text-ink2">{past ? "Nothing was planned." : "Add an event, import a calendar, or take a country's holidays."}</p>}
          </Section>
        </div>
        <div className="grid content-start gap-6">
          <AddEvent zone={zone} />
          <Import />
          <Section title="Calendars" note={word(calendars.data?.length ?? 0).toLowerCase()}>
            {(calendars.data ?? []).map((c) => (
              <div key={c.name} className="border-b border-hair py-[5px]">
                <div className="flex justify-between gap-3"><span>{c.name}<span className="ml-2 text-[13px] text-ink2">{c.country ? `holidays of ${c.country}` : does[c.effect as Effect]}</span></span>
                  <button className={link} onClick={() => confirm(`Remove the calendar ${c.name} with all its events?`) && dropCalendar.mutate(c.name)}>remove</button></div>
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
  const feed = useFeeds().data?.find((f) => f.calendar === name), fetch = useFetchFeed(), end = useUnfollow();
  if (!feed) return null;
  return (
    <p className="text-[13px] text-ink2">
      {feed.failing_since ? <span className="text-verm">cannot be fetched since {time(feed.failing_since, zone)}: {feed.message}; the last good copy stays</span> : <>from {feed.host}, {feed.fetched_at && time(feed.fetched_at, zone)}</>}
      <button className={`ml-3 ${link}`} disabled={fetch.isPending} onClick={() => fetch.mutate(name)}>{fetch.isPending ? "fetching" : "fetch now"}</button>
      <button className={`ml-3 ${link}`} onClick={() => end.mutate(name)}>fetch no more</button>
    </p>
  );
}

/** What people call planned again and again: one click puts it into the calendar. */
function Suggested({ zone }: { zone: string }) {
  const list = useSuggestions().data ?? [], add = useAddEvent();
  if (list.length === 0) return null;
  return (
    <Section className="mb-6" title="Planned again and again" note="from alerts that people labelled planned; not in a calendar yet">
      {list.map((s) => (
        <div key={s.dataset + s.repeat} className="flex items-baseline justify-between gap-4 border-b border-hair py-[6px]">
          <div><b className="font-[650]">{s.summary}</b> at <code>{s.dataset}</code><div className="text-ink2">{s.repeat.replaceAll(";", ", ").toLowerCase()}, next {time(s.from, zone)}, {duration((Date.parse(s.to) - Date.parse(s.from)) / 1000)}; seen {s.seen} of {s.due} times</div></div>
          <button disabled={add.isPending} className="border border-ink bg-brass-fill px-3 py-[3px] font-[650] text-on-brass" onClick={() => add.mutate({ summary: s.summary, from: s.from, to: s.to, dataset: s.dataset, repeat: s.repeat, zone: s.zone })}>Put into the calendar</button>
        </div>
      ))}
      {add.error && <p role="alert" className="mt-1 text-verm">{add.error.message}</p>}
    </Section>
  );
}

const repeats = [["", "once"], ["FREQ=DAILY", "every day"], ["FREQ=WEEKLY", "every week"], ["FREQ=MONTHLY", "every month"]] as const;

function AddEvent({ zone }: { zone: string }) {
  const add = useAddEvent(), datasets = useHealthNames();
  const [effect, setEffect] = useState<Effect>("mute");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = e.currentTarget, f = new FormData(form), text = (k: string) => String(f.get(k) ?? "");
    add.mutate({ summary: text("summary"), from: new Date(text("from")).toISOString(), to: new Date(text("to")).toISOString(), dataset: text("dataset"), effect, repeat: text("repeat"), zone }, { onSuccess: () => form.reset() });
  };
  return (
    <Section title="Add an event">
      <form className="mt-2 grid gap-2" aria-label="new event" onSubmit={submit}>
        <input name="summary" aria-label="What" required className={field} placeholder="what, for example maintenance night" />
        <label className="grid grid-cols-[44px_1fr] items-center text-ink2">from<input name="from" aria-label="From" type="datetime-local" required className={field} /></label>
        <label className="grid grid-cols-[44px_1fr] items-center text-ink2">to<input name="to" aria-label="To" type="datetime-local" required className={field} /></label>
        <select name="repeat" aria-label="Repeats" className={field}>{repeats.map(([v, t]) => <option key={v} value={v}>{t}</option>)}</select>
        <select name="dataset" aria-label="For" className={field}><option value="">for all datasets</option>{datasets.map((d) => <option key={d}>{d}</option>)}</select>
        <select aria-label="Does" value={effect} onChange={(e) => setEffect(e.target.value as Effect)} className={field}>{Object.entries(does).map(([v, t]) => <option key={v} value={v}>{t}</option>)}</select>
        <button disabled={add.isPending} className="border border-ink bg-brass-fill px-4 py-[4px] font-[650] text-on-brass">Add event</button>
        {add.error && <p role="alert" className="text-verm">{add.error.message}</p>}
        {add.data && !add.error && <p role="status" className="text-ink2">Added, {count(add.data.length, "time")}; what it concerns is fitted again.</p>}
      </form>
    </Section>
  );
}

function Import() {
  const load = useImportCalendar(), holidays = useAddHolidays(), countries = useCountries(), follow = useFollow();
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = e.currentTarget, f = new FormData(form);
    follow.mutate({ name: String(f.get("name")), address: String(f.get("address")), effect }, { onSuccess: () => form.reset() });
  };
  const [effect, setEffect] = useState<Effect>("mute");
  return (
    <Section title="From a file, an address, or a country">
      <div className="mt-2 grid gap-2">
        <select aria-label="Events of the file are" value={effect} onChange={(e) => setEffect(e.target.value as Effect)} className={field}>{Object.entries(does).map(([v, t]) => <option key={v} value={v}>{t}</option>)}</select>
        <label className="cursor-pointer border border-ink px-4 py-[4px] text-center">Import an iCalendar file<input type="file" accept=".ics,text/calendar" className="sr-only" onChange={(e) => e.target.files?.[0] && load.mutate({ file: e.target.files[0], effect })} /></label>
        {load.data && <p role="status" className="text-ink2">{count(load.data.length, "event")} imported.</p>}
        {load.error && <p role="alert" className="text-verm">{load.error.message}</p>}
        <form className="grid grid-cols-[110px_1fr_auto] gap-2" aria-label="follow a calendar" onSubmit={submit}>
          <input name="name" required aria-label="Name of the calendar" className={field} placeholder="name" />
          <input name="address" required type="url" aria-label="Address" className={field} placeholder="https://…/a.ics" />
          <button disabled={follow.isPending} className="border border-ink px-3 py-[2px]">{follow.isPending ? "…" : "Follow"}</button>
        </form>
        {follow.error && <p role="alert" className="text-verm">{follow.error.message}</p>}
        <select aria-label="Holidays of" value="" onChange={(e) => e.target.value && holidays.mutate(e.target.value)} className={field}><option value="">holidays of a country</option>{(countries.data ?? []).map((c) => <option key={c}>{c}</option>)}</select>
        {holidays.data && <p role="status" className="text-ink2">{count(holidays.data.length, "holiday")} until two years ahead.</p>}
        {holidays.error && <p role="alert" className="text-verm">{holidays.error.message}</p>}
      </div>
    </Section>
  );
}
