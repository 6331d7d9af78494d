import { useState } from "react";
import { Link } from "react-router";
import type { Metric } from "../../api/client";
import { useChangeMetric, useRemoveMetric } from "../../api/setup";
import { Mark } from "../../parts/Mark";
import { Section } from "../../parts/Page";
import { count, duration, time } from "../../parts/words";
import { Button, Field, Form, Refusal } from "../../parts/Form";
import { Sure } from "../../parts/Ask";
import { type Column, Filter, Table, useFound } from "../../parts/Table";
import { period } from "../../parts/period";

const pushed = (m: Metric) => m.every_seconds === 0 && m.cron === "";
const schedule = (m: Metric) =>
  m.cron ? `cron ${m.cron}` : pushed(m) ? "pushed" : `every ${duration(m.every_seconds)}`;

const none = <span className="text-ink3">–</span>;

const columns: Column<Metric>[] = [
  { id: "metric", head: "metric", fixed: true, by: (m) => m.name, cell: (m) => m.name },
  {
    id: "dataset",
    head: "dataset",
    by: (m) => m.dataset,
    cell: (m) => (
      <Link to={`/datasets/${m.dataset}`}>
        <code>{m.dataset}</code>
      </Link>
    ),
  },
  {
    id: "measure",
    head: "measure",
    by: (m) => m.measure,
    cell: (m) => `${m.measure.replaceAll("_", " ")} ${m.column}`,
  },
  { id: "segments", head: "segmented by", cell: (m) => m.segment_by.join(", ") || none },
  { id: "period", head: "period", by: (m) => m.period_seconds, cell: (m) => period(m.period_seconds) },
  { id: "collected", head: "collected", by: schedule, cell: schedule },
  {
    id: "upto",
    head: "up to",
    className: "whitespace-nowrap",
    by: (m) => m.collected_to,
    cell: (m) => (m.collected_to ? time(m.collected_to, m.zone, "short") : none),
  },
  { id: "kind", head: "kind", away: true, by: (m) => m.kind, cell: (m) => m.kind },
  { id: "tags", head: "tags", away: true, cell: (m) => m.tags.join(", ") || none },
  {
    id: "state",
    head: "state",
    by: (m) => m.state,
    cell: (m) => (
      <span title={m.message}>
        {m.state === "failed" ? (
          <Mark state="failed" word="failed" />
        ) : (
          <span className="text-ink2">ready</span>
        )}
      </span>
    ),
  },
];

/** Everything that is measured: how it is collected can be changed here, what it means cannot. */
export function Metrics({ list }: { list: Metric[] }) {
  const [open, setOpen] = useState<number>();
  const found = useFound(list, (m) => `${m.name} ${m.dataset} ${m.measure} ${m.state}`, "metrics");
  return (
    <Section
      className="mt-6"
      title="What is measured"
      note="how it is collected can be changed; what it means cannot"
      right={count(list.length, "metric")}
    >
      <div className="mt-2">
        <Filter name="metrics" by="name, dataset, state" />
      </div>
      <Table
        name="metrics"
        className="mt-2"
        columns={columns}
        rows={found}
        id={(m) => m.id}
        after={(m) => (
          <>
            <Button look="text" onClick={() => setOpen(open === m.id ? undefined : m.id)}>
              {open === m.id ? "close" : "change"}
            </Button>
            <Remove m={m} />
          </>
        )}
        below={(m) => open === m.id && <Change m={m} onDone={() => setOpen(undefined)} />}
      />
      {found.length === 0 && <p className="mt-2 text-ink2">Nothing fits the filter.</p>}
    </Section>
  );
}

/** Durations are typed as people write them. */
const seconds = (text: string) => {
  const found = /^([0-9.]+)(s|mo|m|h|d|w|y)$/.exec(text.trim());
  const units = { s: 1, m: 60, h: 3600, d: 86400, w: 604_800, mo: 2_592_000, y: 31_536_000 };
  return found ? Math.round(Number(found[1]) * units[found[2] as "s"]) : undefined;
};
const written = (s: number) =>
  s && s % 86400 === 0
    ? `${s / 86400}d`
    : s && s % 3600 === 0
      ? `${s / 3600}h`
      : s && s % 60 === 0
        ? `${s / 60}m`
        : `${s}s`;

function Change({ m, onDone }: { m: Metric; onDone: () => void }) {
  const change = useChangeMetric();
  const [when, setWhen] = useState(m.cron || written(m.every_seconds));
  const [lookback, setLookback] = useState(written(m.lookback_seconds));
  const [settle, setSettle] = useState(written(m.settle_seconds));
  const [most, setMost] = useState(String(m.max_segments));
  const [unit, setUnit] = useState(m.unit);
  const [called, setCalled] = useState(m.name);
  const [tags, setTags] = useState(m.tags.join(", "));
  const every = seconds(when);
  const wrong = [lookback, settle].some((t) => seconds(t) === undefined)
    ? "Write durations as 90s, 15m, 6h or 2d."
    : undefined;
  const field = (label: string, value: string, set: (v: string) => void, width: string) => (
    <Field label={<>{label}</>}>
      <input
        aria-label={label}
        className={`${width} border border-ink3 bg-field px-2 py-[2px] text-[14px] text-ink`}
        value={value}
        onChange={(e) => set(e.target.value)}
      />
    </Field>
  );
  return (
    <Form
      className="flex flex-wrap items-end gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        const how = pushed(m) ? {} : every !== undefined ? { every_seconds: every } : { cron: when.trim() };
        change.mutate(
          {
            name: m.name,
            body: {
              ...how,
              lookback_seconds: seconds(lookback),
              settle_seconds: seconds(settle),
              max_segments: Number(most),
              unit,
              tags: tags.split(/[\s,]+/).filter(Boolean),
              ...(called.trim() !== m.name && { name: called.trim() }),
            },
          },
          { onSuccess: onDone },
        );
      }}
    >
      {!pushed(m) && field("Collected every, or cron", when, setWhen, "w-[150px]")}
      {!pushed(m) && field("Reads back", lookback, setLookback, "w-[90px]")}
      {field("Waits after a period", settle, setSettle, "w-[130px]")}
      {m.segment_by.length > 0 && field("Segments at most", most, setMost, "w-[120px]")}
      {field("One is called", unit, setUnit, "w-[170px]")}
      {!m.comparison && m.measure !== "apart" && field("Name", called, setCalled, "w-[200px]")}
      {field("Tags", tags, setTags, "w-[150px]")}
      <Button type="submit" disabled={!!wrong || change.isPending} look="primary">
        {change.isPending ? "trying it" : "Save"}
      </Button>
      {(wrong || change.error) && (
        <p role="alert" className="w-full text-verm">
          {wrong ?? change.error?.message}
        </p>
      )}
    </Form>
  );
}

function Remove({ m }: { m: Metric }) {
  const remove = useRemoveMetric();
  return (
    <>
      <Sure
        className="ml-4"
        asks={`Remove ${m.name}?`}
        says={
          "Its samples go, and with them its monitors, their alerts and labels. The table itself is not " +
          "touched. This cannot be taken back."
        }
        does="Remove it"
        act={() => remove.mutate(m.name)}
      >
        remove
      </Sure>
      <Refusal error={remove.error} className="mt-2" />
    </>
  );
}
