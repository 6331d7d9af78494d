import { useState } from "react";
import type { NewMetric, Offered } from "../../api/client";
import { useHealth } from "../../api/queries";
import { type Plan, useMeasure, useTried } from "../../api/setup";
import { Choice, Pick, Setting } from "../../parts/Controls";
import { month, week } from "../../parts/period";
import { Section } from "../../parts/Page";
import { count } from "../../parts/words";
import { First } from "./First";
import { Button, Refusal } from "../../parts/Form";
import { cx } from "../../parts/cx";

const periods = [
  ["900", "15 min"],
  ["3600", "hour"],
  ["86400", "day"],
  [`${week}`, "week"],
  [`${month}`, "month"],
] as const;
export const pasts = [
  ["4", "4 weeks"],
  ["16", "16 weeks"],
  ["52", "a year"],
  ["260", "5 years"],
] as const;
/** How much past a period asks for at first: of weeks and months years. */
const pastFor = (period: string) => (Number(period) > 86_400 ? "260" : "16");
/** Chooses a period, and as much past as it asks for. */
export function Period({
  value,
  onChange,
  onPast,
}: {
  value: string;
  onChange: (period: string) => void;
  onPast: (weeks: string) => void;
}) {
  return (
    <Setting name="Period">
      <Choice
        name="Period"
        value={value}
        options={periods}
        onChange={(p) => {
          onChange(p);
          onPast(pastFor(p));
        }}
      />
    </Setting>
  );
}

const numeric = /int|numeric|real|double|money/;
export const short = (table: string) => table.split(".").pop()!.replaceAll("_", "-");

/** From a table to its first chart: what to measure, the SQL that asks for it, and its past. */
export function MeasureTable({ source, table }: { source: string; table: Offered }) {
  const known = (useHealth().data ?? []).find((h) => h.dataset.name === table.name)?.dataset;
  const times = table.time_columns.filter((c) => c !== table.loaded_by);
  const [time, setTime] = useState(times[0] ?? table.time_columns[0] ?? "");
  const [typedZone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone);
  const [typedOwner, setOwner] = useState("");
  const { zone, owner } = known ?? { zone: typedZone, owner: typedOwner };
  const [period, setPeriod] = useState<string>("3600");
  const [segment, setSegment] = useState("");
  const [past, setPast] = useState<string>("16");
  const [chosen, choose] = useState<string[]>(["rows"]);
  const [looked, look] = useState("rows");
  const measure = useMeasure();
  const offers = offered(table, time);
  const metricOf = (key: string): NewMetric => {
    const [what, column] = key.split(" ");
    const seconds = Number(period);
    return {
      dataset: table.name,
      name: [short(table.name), column?.replaceAll("_", "-"), what.replaceAll("_", "-")]
        .filter(Boolean)
        .join("-"),
      measure: what as NewMetric["measure"],
      column,
      time_column: what === "table_bytes" ? undefined : time || undefined,
      segment_by: segment && what !== "freshness" && what !== "table_bytes" ? [segment] : undefined,
      period_seconds: seconds,
      every_seconds: Math.min(seconds, 300),
      lookback_seconds: Math.max(6 * 3600, seconds),
      settle_seconds: what === "freshness" ? 0 : Math.min(Math.round(seconds / 6), 86_400),
    };
  };
  const plan: Plan = {
    dataset: { source, name: table.name, owner, zone, loaded_by: table.loaded_by },
    known: known !== undefined,
    metrics: chosen.map(metricOf),
    since_seconds: Number(past) * 7 * 86400,
  };
  const toggle = (key: string) => {
    choose(chosen.includes(key) ? chosen.filter((k) => k !== key) : [...chosen, key]);
    look(key);
  };
  return (
    <div
      className={cx(
        "mt-3 grid max-lg:grid-cols-1 grid-cols-[320px_minmax(0,1fr)] gap-8 border-t",
        "border-rule pt-3",
      )}
    >
      <div>
        <Setting name="Time of a row">
          {times.length + (table.loaded_by ? 1 : 0) > 0 ? (
            <Pick
              name="Time of a row"
              value={time}
              options={[...table.time_columns.map((c) => [c, c] as const)]}
              onChange={setTime}
            />
          ) : (
            <span className="text-ink2">no column holds one: the table is measured as it stands</span>
          )}
        </Setting>
        <Period value={period} onChange={setPeriod} onPast={setPast} />
        <Setting name="One series for each">
          <Pick
            name="Segment"
            value={segment || "none"}
            options={[
              ["none", "the whole table"],
              ...table.columns.filter((c) => !/time|date/.test(c.type)).map((c) => [c.name, c.name] as const),
            ]}
            onChange={(v) => setSegment(v === "none" ? "" : v)}
          />
        </Setting>
        <Setting name="Its past">
          <Choice name="Past" value={past} options={pasts} onChange={setPast} />
        </Setting>
        <Setting name="Time zone of its days">
          <input
            aria-label="Time zone"
            className="w-full border border-ink3 bg-field px-3 py-[2px]"
            value={zone}
            disabled={known !== undefined}
            onChange={(e) => setZone(e.target.value)}
          />
        </Setting>
        <Setting name="Owner">
          <input
            aria-label="Owner"
            className="w-full border border-ink3 bg-field px-3 py-[2px]"
            placeholder="team that looks after it"
            value={owner}
            disabled={known !== undefined}
            onChange={(e) => setOwner(e.target.value)}
          />
        </Setting>
        <Button
          disabled={chosen.length === 0 || measure.isPending}
          onClick={() => measure.mutate(plan)}
          look="primary"
          className="mt-4"
        >
          Measure {count(chosen.length, "metric")}, and the past
        </Button>
        <Refusal error={measure.error} className="mt-2" />
      </div>
      <div>
        <Section title="What to measure" note={`of ${table.name}`}>
          <div className="mt-2 flex flex-wrap gap-x-5 gap-y-[6px]">
            {offers.map(([key, label]) => (
              <label key={key} className="flex items-center gap-2">
                <input
                  type="checkbox"
                  checked={chosen.includes(key)}
                  onChange={() => toggle(key)}
                  className="accent-[var(--ink)]"
                />
                {label}
              </label>
            ))}
          </div>
        </Section>
        {measure.data && <First table={table.name} task={measure.data.task_id} />}
        <Asked
          metric={known ? metricOf(chosen.includes(looked) ? looked : (chosen[0] ?? "rows")) : undefined}
          table={table.name}
        />
      </div>
    </div>
  );
}

/** What makes sense for a table's columns. */
function offered(table: Offered, time: string): [string, string][] {
  const list: [string, string][] = [["rows", "rows"]];
  if (time) list.push(["freshness", "freshness"]);
  for (const c of table.columns) {
    if (/time|date/.test(c.type) || /(^|_)id$/.test(c.name)) continue;
    if (c.nullable) list.push([`null_share ${c.name}`, `nulls of ${c.name}`]);
    if (numeric.test(c.type))
      list.push([`mean ${c.name}`, `mean ${c.name}`], [`quantile ${c.name}`, `median ${c.name}`]);
    else list.push([`distinct ${c.name}`, `different ${c.name}`]);
  }
  if (table.kind === "table") list.push(["table_bytes", "size of the table"]);
  return list;
}

/** The SQL of the metric looked at, as it is tried on the table. */
function Asked({ metric, table }: { metric: NewMetric | undefined; table: string }) {
  const tried = useTried(metric);
  return (
    <Section
      className="mt-5"
      title="What the warehouse is asked"
      note={metric ? `for ${metric.name}, tried on one period` : undefined}
    >
      {!metric && (
        <p className="mt-2 text-ink2">
          {table} is new here: its SQL is shown, and tried, as soon as it is added. Nothing but aggregates is
          read.
        </p>
      )}
      <Refusal error={tried.error} className="mt-2" />
      {tried.data?.message && <p className="mt-2 text-brass-text">{tried.data.message}</p>}
      {tried.data && (
        <pre tabIndex={0} className="mt-2 overflow-x-auto bg-well p-3 text-[12.5px] leading-[18px]">
          {tried.data.sql}
        </pre>
      )}
    </Section>
  );
}
