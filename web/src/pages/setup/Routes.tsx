import { type FormEvent } from "react";
import { Link } from "react-router";
import type { Channel, Route } from "../../api/client";
import { useDropRoute, useRoutes, useSetRoute } from "../../api/telling";
import { Mark } from "../../parts/Mark";
import { Section } from "../../parts/Page";
import { count, duration } from "../../parts/words";
import { Button, Field, Form, Refusal, field } from "../../parts/Form";
import { Option, Select } from "../../parts/Select";
import { type Column, Table } from "../../parts/Table";
import { Sure } from "../../parts/Ask";

export const all = <span className="text-ink2">all</span>;

const ofRoutes: Column<Route>[] = [
  {
    id: "route",
    head: "route",
    fixed: true,
    by: (r) => r.name,
    cell: (r) => <span className="font-semibold">{r.name}</span>,
  },
  { id: "to", head: "to", by: (r) => r.channel, cell: (r) => r.channel },
  {
    id: "datasets",
    head: "datasets",
    by: (r) => r.datasets.join(),
    cell: (r) =>
      r.datasets.length === 0
        ? all
        : r.datasets.map((d) => (
            <code key={d} className="mr-1">
              {d}
            </code>
          )),
  },
  { id: "owners", head: "owners", by: (r) => r.owners.join(), cell: (r) => r.owners.join(", ") || all },
  {
    id: "tags",
    head: "tags",
    by: (r) => r.tags.join(),
    cell: (r) =>
      r.tags.length === 0
        ? all
        : r.tags.map((t) => (
            <Link key={t} className="mr-2" to={`/tags/${t}`}>
              {t}
            </Link>
          )),
  },
  {
    id: "from",
    head: "from",
    by: (r) => (r.severity === "warning" ? 0 : 1),
    cell: (r) => <Mark state={r.severity} />,
  },
  { id: "hours", head: "hours", cell: (r) => r.hours.join(", ") || "always" },
  {
    id: "reminds",
    head: "reminds",
    by: (r) => r.remind_seconds || null,
    cell: (r) => (r.remind_seconds ? `every ${duration(r.remind_seconds)}` : "–"),
  },
  {
    id: "else",
    head: "if nobody looks after it",
    by: (r) => r.escalate_to,
    cell: (r) => (r.escalate_seconds ? `${r.escalate_to} after ${duration(r.escalate_seconds)}` : "–"),
  },
];

export function Routes() {
  const routes = useRoutes(),
    drop = useDropRoute();
  return (
    <Section title="Routes" note="which groups which channel hears of">
      <Table
        name="routes"
        words={(r) => [r.name, r.channel, ...r.datasets, ...r.owners, ...r.tags].join(" ")}
        className="mt-1"
        columns={ofRoutes}
        rows={routes.data ?? []}
        id={(r) => r.id}
        after={(r) => (
          <Sure
            asks={`Remove the route ${r.name}?`}
            says={`${r.channel} is told nothing by it any more; what was said stays.`}
            does="Remove it"
            act={() => drop.mutate(r.name)}
          >
            remove
          </Sure>
        )}
      />
      <Refusal error={drop.error} />
    </Section>
  );
}

const times = [
  ["0", "never"],
  ["1800", "30 min"],
  ["3600", "1 h"],
  ["14400", "4 h"],
  ["86400", "1 day"],
] as const;

export function AddRoute({ channels, zone }: { channels: Channel[]; zone: string }) {
  const set = useSetRoute();
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const element = e.currentTarget,
      f = new FormData(element),
      text = (k: string) => String(f.get(k) ?? "").trim();
    const parts = (k: string) =>
      text(k)
        .split(",")
        .map((t) => t.trim())
        .filter(Boolean);
    set.mutate(
      {
        name: text("name"),
        channel: text("channel"),
        datasets: parts("datasets"),
        owners: parts("owners"),
        tags: parts("tags"),
        severity: text("severity") as "warning",
        hours: text("hours") ? [text("hours")] : [],
        zone,
        remind_seconds: Number(text("remind")),
        escalate_seconds: text("escalate_to") ? Number(text("escalate")) : 0,
        escalate_to: text("escalate_to"),
      },
      { onSuccess: () => element.reset() },
    );
  };
  return (
    <Section title="Add a route">
      <Form error={set.error} className="mt-2 grid gap-2" aria-label="new route" onSubmit={submit}>
        <div className="grid grid-cols-2 gap-2">
          <Field label="Name" of="name">
            <input name="name" required className={field} />
          </Field>
          <Field label="Leads to" of="channel">
            <Select name="channel" className="w-full">
              {channels.map((c) => (
                <Option key={c.id}>{c.name}</Option>
              ))}
            </Select>
          </Field>
        </div>
        <Field label="Datasets" help="Names or patterns, one is enough; all if empty." of="datasets">
          <input name="datasets" className={field} placeholder="ops.*, raw.*" />
        </Field>
        <Field label="Owners" help="Teams that look after the dataset; all if empty." of="owners">
          <input name="owners" className={field} />
        </Field>
        <Field label="Tags" help="One is enough; all if empty." of="tags">
          <input name="tags" className={field} />
        </Field>
        <Field label="Hours" help="When it holds; always if empty." of="hours">
          <input name="hours" className={field} placeholder="mon-fri 08:00-18:00" />
        </Field>
        <div className="grid grid-cols-2 gap-2">
          <Field label="From severity" of="severity">
            <Select name="severity" className="w-full">
              <Option>warning</Option>
              <Option>critical</Option>
            </Select>
          </Field>
          <Field label="Reminds" of="remind_seconds">
            <Select name="remind" className="w-full">
              {times.map(([v, t]) => (
                <Option key={v} value={v}>
                  {v === "0" ? t : `every ${t}`}
                </Option>
              ))}
            </Select>
          </Field>
          <Field label="If nobody looks after it" of="escalate_to">
            <Select name="escalate_to" className="w-full">
              <Option value="">nobody else</Option>
              {channels.map((c) => (
                <Option key={c.id}>{c.name}</Option>
              ))}
            </Select>
          </Field>
          <Field label="is told after" of="escalate_seconds">
            <Select name="escalate" className="w-full" defaultValue="1800">
              {times.slice(1).map(([v, t]) => (
                <Option key={v} value={v}>
                  {t}
                </Option>
              ))}
            </Select>
          </Field>
        </div>
        <Button type="submit" disabled={set.isPending}>
          Add route
        </Button>
        {set.data && !set.error && (
          <p role="status" className="text-ink2">
            Route {set.data.name} leads to <Link to="/setup/telling">{set.data.channel}</Link>
            {set.data.remind_seconds > 0 &&
              `, ${count(1, "reminder")} every ${duration(set.data.remind_seconds)}`}
            .
          </p>
        )}
      </Form>
    </Section>
  );
}
