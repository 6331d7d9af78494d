import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import type { Promised } from "../api/client";
import { useHealth, useNow } from "../api/queries";
import { useDropPromise, usePromises, useSetPromise } from "../api/telling";
import { Mark } from "../parts/Mark";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { city, count, number, percent, time, word } from "../parts/words";
import { Button, Field, Form, box, field } from "../parts/Form";
import { Option, Select } from "../parts/Select";
import { cx } from "../parts/cx";
import { type Column, Table } from "../parts/Table";
import { Sure } from "../parts/Ask";

const clock = (minute: number) =>
  minute === 1440
    ? "24:00"
    : `${String(Math.floor(minute / 60) % 24).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}`;

const minute = (text: string) => {
  const [h, m] = text.split(":").map(Number);
  return h * 60 + m;
};

function sentence(list: Promised[]): string {
  if (list.length === 0) return "Nothing is promised yet: say how much is due by when.";
  const of = (s: string) => list.filter((p) => p.standing === s);
  const parts = [
    ["missed", "is missed", "are missed"],
    ["behind", "is behind", "are behind"],
    ["on pace", "is on pace", "are on pace"],
    ["met", "is met", "are met"],
    ["not due", "is not due today", "are not due today"],
  ] as const;
  const said = parts
    .filter(([s]) => of(s).length > 0)
    .map(
      ([s, one, many]) =>
        `${of(s).length === list.length ? "all" : word(of(s).length).toLowerCase()} ` +
        `${of(s).length === 1 ? one : many}`,
    );
  const first = of("missed")[0] ?? of("behind")[0];
  return (
    `Of ${count(list.length, "promise")} ` +
    said.join(", ") +
    (first ? ": " + first.sentence.replace(/^\S+ is (missed|behind): /, first.name + ", ") : "") +
    "."
  );
}

/** What was promised by when: how it stands, how likely it is met, how it was kept. */
export function SLAsPage() {
  const promises = usePromises(),
    now = useNow();
  const list = [...(promises.data ?? [])].sort((a, b) => rank(a) - rank(b) || a.name.localeCompare(b.name));
  const [adding, setAdding] = useState(false);
  const keys = { A: { does: "add", act: () => setAdding(true) } };
  const months = [...new Set(list.flatMap((p) => p.months.map((m) => m.month)))].sort().slice(-6);
  return (
    <Page
      place="SLAs"
      keys={keys}
      sentence={promises.data ? sentence(list) : ""}
      after={
        "At least so many rows, loads or files within a window. The chance is learned " +
        "from how such days went on."
      }
    >
      <Trouble what="SLAs" error={promises.error} />
      {promises.isPending && <Reading what="SLAs" />}
      <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_320px] gap-8">
        <Section title="Now" note="the window that is open, or was last">
          {list.map((p) => (
            <Standing key={p.name} p={p} now={now} />
          ))}
          {promises.data && list.length === 0 && (
            <p className="mt-2 text-ink2">For example: five partners' files by 06:30 on weekdays.</p>
          )}
        </Section>
        <Add open={adding || list.length === 0} setOpen={setAdding} />
      </div>
      {list.length > 0 && (
        <Section
          className="mt-6"
          title="Kept"
          note="windows met of those that were due, by month; each tick is a window of the last thirty"
        >
          <Table
            columns={columns(months)}
            rows={list}
            id={(p) => p.name}
            words={(p) => `${p.name} ${p.dataset}`}
          />
        </Section>
      )}
    </Page>
  );
}

/** How many windows of some months were due, and of them met. */
function kept(months: Promised["months"]) {
  const sum = { met: 0, due: 0 };
  for (const m of months) {
    sum.met += m.met;
    sum.due += m.due;
  }
  return sum;
}

const columns = (months: string[]): Column<Promised>[] => [
  {
    id: "sla",
    head: "sla",
    fixed: true,
    by: (p) => p.name,
    cell: (p) => <span className="font-semibold">{p.name}</span>,
  },
  {
    id: "dataset",
    head: "dataset",
    by: (p) => p.dataset,
    cell: (p) => (
      <Link to={`/datasets/${p.dataset}`}>
        <code>{p.dataset}</code>
      </Link>
    ),
  },
  ...months.map((month): Column<Promised> => {
    const of = (p: Promised) => kept(p.months.filter((m) => m.month === month));
    return {
      id: month,
      head: month,
      num: true,
      by: (p) => of(p).met / of(p).due || null,
      cell: (p) => {
        const { met, due } = of(p);
        if (due === 0) return "–";
        return (
          <span className={met < due ? "font-[650]" : "text-ink2"}>
            {met} of {due}
          </span>
        );
      },
    };
  }),
  {
    id: "all",
    head: "in all",
    num: true,
    by: (p) => kept(p.months).met / kept(p.months).due || null,
    cell: (p) => {
      const { met, due } = kept(p.months);
      return <span className="font-[650]">{due ? percent(met / due) : "–"}</span>;
    },
  },
  { id: "ticks", head: "the last thirty, oldest first", className: "pl-8", cell: (p) => <Ticks p={p} /> },
];

const rank = (p: Promised) => ["missed", "behind", "on pace", "met", "not due"].indexOf(p.standing);

/** A window as a bar: how much came, how much is due, where now is. */
function Standing({ p, now }: { p: Promised; now: number }) {
  const drop = useDropPromise();
  const from = Date.parse(p.window_from),
    to = Date.parse(p.window_to);
  const share = Math.min(p.have / p.at_least, 1),
    gone = Math.min(Math.max((now - from) / (to - from), 0), 1);
  const open = p.standing === "on pace" || p.standing === "behind";
  return (
    <article
      data-sla={p.name}
      className={cx(
        "grid gap-4 border-b max-md:gap-1 md:grid-cols-[110px_minmax(0,1fr)_minmax(220px,34%)]",
        "border-rule py-[9px] last:border-0",
      )}
    >
      <div>
        <Mark state={p.standing} word={p.standing} />
        {p.paused && <div className="text-ink2">paused</div>}
      </div>
      <div>
        <span className="text-[15px] font-[650]">{p.name}</span>: {count(p.at_least, p.counts.slice(0, -1))}
        {p.segment && ` of ${p.segment}`} {p.from_minute ? `from ${clock(p.from_minute)} to` : "by"}{" "}
        {clock(p.to_minute)}, {p.days === "mon-sun" ? "daily" : p.days}
        <div className="mt-[2px] text-ink2">
          <Link to={`/datasets/${p.dataset}`}>
            <code>{p.dataset}</code>
          </Link>
          {p.owner && `, ${p.owner}`}; times in {city(p.zone)}
        </div>
        <div className="mt-[2px] text-ink2">
          {open ? (
            <>
              {percent(p.probability)} sure to make it
              {p.learned_from > 0
                ? `, from ${count(p.learned_from, "such day")}`
                : "; no such day is known yet"}
            </>
          ) : p.standing === "met" ? (
            `met ${time(p.met_at!, p.zone)}`
          ) : (
            `window ended ${time(p.window_to, p.zone)}`
          )}
          {!open && p.next_to && `; next by ${time(p.next_to, p.zone)}`}
          <Sure
            className="ml-4"
            asks={`Remove ${p.name}?`}
            says="The promise goes with its past. This cannot be taken back."
            does="Remove it"
            act={() => drop.mutate(p.name)}
          >
            remove
          </Sure>
        </div>
      </div>
      <div>
        <svg width="100%" height="16" role="img" aria-label={`${p.have} of ${p.at_least}`}>
          <rect x="0" y="4" width="100%" height="8" fill="var(--pewter)" />
          <rect
            x="0"
            y="4"
            width={`${share * 100}%`}
            height="8"
            fill={p.standing === "missed" ? "var(--verm-mark)" : "var(--ink)"}
          />
          {open && (
            <line
              x1={`${gone * 100}%`}
              x2={`${gone * 100}%`}
              y1="0"
              y2="16"
              stroke="var(--brass-text)"
              strokeWidth="1.5"
            />
          )}
        </svg>
        <div className="text-[13px] text-ink2">
          {number(p.have)} of {number(p.at_least)} {p.counts}
          {open && `; ${percent(gone)} of the window is over`}
        </div>
      </div>
    </article>
  );
}

function Ticks({ p }: { p: Promised }) {
  return (
    <svg
      width={30 * 9}
      height={16}
      role="img"
      aria-label={
        `${p.windows.filter((d) => d.standing === "missed").length} of the last ` +
        `${p.windows.length} windows were missed`
      }
    >
      {p.windows.map((d, i) => (
        <g key={d.day}>
          <title>{`${d.day.slice(0, 10)}: ${d.standing}, ${d.have} of ${d.at_least}`}</title>
          {d.standing === "met" ? (
            <line x1={i * 9 + 4} x2={i * 9 + 4} y1="4" y2="12" stroke="var(--ink2)" strokeWidth="1.5" />
          ) : (
            <path d={`M${i * 9 + 1} 5l6 6M${i * 9 + 7} 5l-6 6`} stroke="var(--verm-mark)" strokeWidth="1.8" />
          )}
        </g>
      ))}
    </svg>
  );
}

/** A new promise; what was typed stays when it is refused. */
function Add({ open, setOpen }: { open: boolean; setOpen: (v: boolean) => void }) {
  const set = useSetPromise(),
    health = useHealth();
  const [days, setDays] = useState("mon-fri");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget),
      form = e.currentTarget,
      text = (k: string) => String(f.get(k) ?? "");
    const from = text("from") ? minute(text("from")) : 0,
      by = minute(text("by"));
    set.mutate(
      {
        name: text("name"),
        dataset: text("dataset"),
        counts: text("counts") as "rows",
        at_least: Number(text("at_least")),
        days,
        from_minute: from,
        to_minute: by <= from ? by + 1440 : by,
        lead_seconds: Number(text("lead")) * 3600,
      },
      {
        onSuccess: () => {
          form.reset();
          setOpen(false);
        },
      },
    );
  };
  if (!open)
    return (
      <Section title="Add an SLA">
        <Button className="mt-2" onClick={() => setOpen(true)}>
          Add
        </Button>
      </Section>
    );
  return (
    <Section title="Add an SLA" note="its past is looked at at once">
      <Form error={set.error} className="mt-2 grid gap-2" aria-label="new SLA" onSubmit={submit}>
        <Field label="Name" of="name">
          <input name="name" required className={field} placeholder="parcels" />
        </Field>
        <Field label="Dataset" of="dataset">
          <Select name="dataset" required className="w-full">
            {(health.data ?? []).map((h) => (
              <Option key={h.dataset.name}>{h.dataset.name}</Option>
            ))}
          </Select>
        </Field>
        <div className="flex items-center gap-2">
          <Field label="At least" of="at_least">
            <input name="at_least" type="number" min="1" step="any" required className={`${field} w-24`} />
          </Field>
          <Field label="Of what" of="counts">
            <Select name="counts" className="w-full">
              <Option>rows</Option>
              <Option>loads</Option>
              <Option>files</Option>
            </Select>
          </Field>
        </div>
        <div className="flex items-center gap-2">
          <Field label="From" of="from">
            <input name="from" type="time" className={field} />
          </Field>
          <Field label="By" of="by">
            <input name="by" type="time" required className={field} />
          </Field>
        </div>
        <Field label="Days">
          <Select value={days} onChange={(v) => setDays(v)} className="w-full">
            <Option value="mon-fri">on weekdays</Option>
            <Option value="mon-sun">every day</Option>
            <Option value="mon-sat">Monday to Saturday</Option>
            <Option value="sat,sun">at weekends</Option>
          </Select>
        </Field>
        <Field label="Told to be behind at most so many hours before" of="lead_seconds">
          <input name="lead" type="number" min="0.5" step="0.5" defaultValue="2" className={`${box} w-20`} />
        </Field>
        <div className="flex gap-2">
          <Button type="submit" disabled={set.isPending} look="primary">
            Add SLA
          </Button>
          <Button onClick={() => setOpen(false)}>Close</Button>
        </div>
      </Form>
    </Section>
  );
}
