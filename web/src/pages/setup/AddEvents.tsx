import { type FormEvent, useState } from "react";
import {
  useAddEvent,
  useAddHolidays,
  useCountries,
  useFollow,
  useHealthNames,
  useImportCalendar,
} from "../../api/telling";
import { Button, Field, Form, Refusal, field } from "../../parts/Form";
import { Section } from "../../parts/Page";
import { Option, Select } from "../../parts/Select";
import { count } from "../../parts/words";

/** What an event does to judging and learning. */
export const does = {
  mute: "neither judged nor learned from",
  widen: "judged by a wider band, not learned from",
  "leave out": "judged as ever, not learned from",
} as const;
export type Effect = keyof typeof does;

const repeats = [
  ["", "once"],
  ["FREQ=DAILY", "every day"],
  ["FREQ=WEEKLY", "every week"],
  ["FREQ=MONTHLY", "every month"],
] as const;

export function AddEvent({ zone }: { zone: string }) {
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

export function Import() {
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
