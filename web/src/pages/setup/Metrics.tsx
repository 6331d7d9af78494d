import { AlertDialog } from "radix-ui";
import { useState } from "react";
import { Link } from "react-router";
import type { Metric } from "../../api/client";
import { useChangeMetric, useRemoveMetric } from "../../api/setup";
import { Mark } from "../../parts/Mark";
import { Section } from "../../parts/Page";
import { count, duration, time } from "../../parts/words";

const pushed = (m: Metric) => m.every_seconds === 0 && m.cron === "";
const schedule = (m: Metric) => (m.cron ? `cron ${m.cron}` : pushed(m) ? "pushed" : `every ${duration(m.every_seconds)}`);

/** Everything that is measured: how it is collected can be changed here, what it means cannot. */
export function Metrics({ list }: { list: Metric[] }) {
  const [filter, setFilter] = useState("");
  const [open, setOpen] = useState<number>();
  const [all, showAll] = useState(false);
  const found = list.filter((m) => `${m.name} ${m.dataset} ${m.measure} ${m.state}`.toLowerCase().includes(filter.toLowerCase()));
  const shown = all ? found : found.slice(0, 12);
  return (
    <Section className="mt-6" title="What is measured" note="how it is collected can be changed; what it means cannot" right={count(list.length, "metric")}>
      <input aria-label="Filter metrics" className="mt-2 w-72 border border-ink3 bg-field px-3 py-1" placeholder="filter by name, dataset, state" value={filter} onChange={(e) => setFilter(e.target.value)} />
      <table className="mt-1 w-full border-collapse">
        <thead><tr><th className="py-1">metric</th><th>dataset</th><th>measure</th><th>segmented by</th><th>period</th><th>collected</th><th>up to</th><th>state</th><th /></tr></thead>
        <tbody>
          {shown.map((m) => (
            <Row key={m.id} m={m} open={open === m.id} onOpen={(o) => setOpen(o ? m.id : undefined)} />
          ))}
        </tbody>
      </table>
      {found.length > shown.length && <button className="mt-2 underline decoration-pewter-line underline-offset-3" onClick={() => showAll(true)}>all {found.length}</button>}
      {found.length === 0 && <p className="mt-2 text-ink2">Nothing fits the filter.</p>}
    </Section>
  );
}

function Row({ m, open, onOpen }: { m: Metric; open: boolean; onOpen: (open: boolean) => void }) {
  return (
    <>
      <tr className="h-[27px]">
        <td className={open ? "font-bold" : ""}>{m.name}</td>
        <td><Link to={`/datasets/${m.dataset}`}><code>{m.dataset}</code></Link></td>
        <td>{m.measure.replaceAll("_", " ")} {m.column}</td>
        <td>{m.segment_by!.join(", ") || <span className="text-ink3">–</span>}</td>
        <td>{duration(m.period_seconds)}</td>
        <td>{schedule(m)}</td>
        <td className="whitespace-nowrap">{m.collected_to ? time(m.collected_to, m.zone, "short") : <span className="text-ink3">–</span>}</td>
        <td title={m.message}>{m.state === "failed" ? <Mark state="failed" word="failed" /> : <span className="text-ink2">ready</span>}</td>
        <td className="num whitespace-nowrap">
          <button className="underline decoration-pewter-line underline-offset-3" onClick={() => onOpen(!open)}>{open ? "close" : "change"}</button>
          <Remove m={m} />
        </td>
      </tr>
      {open && <tr><td colSpan={9} className="bg-well p-3"><Change m={m} onDone={() => onOpen(false)} /></td></tr>}
    </>
  );
}

/** Durations are typed as people write them. */
const seconds = (text: string) => {
  const found = /^([0-9.]+)([smhdw])$/.exec(text.trim());
  return found ? Math.round(Number(found[1]) * { s: 1, m: 60, h: 3600, d: 86400, w: 604800 }[found[2] as "s"]) : undefined;
};
const written = (s: number) => (s && s % 86400 === 0 ? `${s / 86400}d` : s && s % 3600 === 0 ? `${s / 3600}h` : s && s % 60 === 0 ? `${s / 60}m` : `${s}s`);

function Change({ m, onDone }: { m: Metric; onDone: () => void }) {
  const change = useChangeMetric();
  const [when, setWhen] = useState(m.cron || written(m.every_seconds));
  const [lookback, setLookback] = useState(written(m.lookback_seconds));
  const [settle, setSettle] = useState(written(m.settle_seconds));
  const [most, setMost] = useState(String(m.max_segments));
  const [unit, setUnit] = useState(m.unit);
  const [called, setCalled] = useState(m.name);
  const [tags, setTags] = useState(m.tags!.join(", "));
  const every = seconds(when);
  const wrong = [lookback, settle].some((t) => seconds(t) === undefined) ? "Write durations as 90s, 15m, 6h or 2d." : undefined;
  const field = (label: string, value: string, set: (v: string) => void, width: string) => (
    <label className="flex flex-col gap-1 text-[13px] text-ink2">{label}<input aria-label={label} className={`${width} border border-ink3 bg-field px-2 py-[2px] text-[14px] text-ink`} value={value} onChange={(e) => set(e.target.value)} /></label>
  );
  return (
    <form className="flex flex-wrap items-end gap-4" onSubmit={(e) => {
      e.preventDefault();
      const how = pushed(m) ? {} : every !== undefined ? { every_seconds: every } : { cron: when.trim() };
      change.mutate({ name: m.name, body: { ...how, lookback_seconds: seconds(lookback), settle_seconds: seconds(settle), max_segments: Number(most), unit, tags: tags.split(/[\s,]+/).filter(Boolean), ...(called.trim() !== m.name && { name: called.trim() }) } }, { onSuccess: onDone });
    }}>
      {!pushed(m) && field("Collected every, or cron", when, setWhen, "w-[150px]")}
      {!pushed(m) && field("Reads back", lookback, setLookback, "w-[90px]")}
      {field("Waits after a period", settle, setSettle, "w-[130px]")}
      {m.segment_by!.length > 0 && field("Segments at most", most, setMost, "w-[120px]")}
      {field("One is called", unit, setUnit, "w-[170px]")}
      {!m.comparison && m.measure !== "apart" && field("Name", called, setCalled, "w-[200px]")}
      {field("Tags", tags, setTags, "w-[150px]")}
      <button type="submit" disabled={!!wrong || change.isPending} className="border border-ink bg-brass-fill px-4 py-[4px] font-[650] text-on-brass disabled:border-ink3 disabled:bg-well disabled:text-ink3">{change.isPending ? "trying it" : "Save"}</button>
      {(wrong || change.error) && <p role="alert" className="w-full text-verm">{wrong ?? change.error?.message}</p>}
    </form>
  );
}

function Remove({ m }: { m: Metric }) {
  const remove = useRemoveMetric();
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger className="ml-4 underline decoration-pewter-line underline-offset-3">remove</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-ink/40" />
        <AlertDialog.Content className="fixed top-[28%] left-1/2 w-[470px] -translate-x-1/2 border border-ink bg-ground p-5">
          <AlertDialog.Title className="text-[17px] font-semibold">Remove {m.name}?</AlertDialog.Title>
          <AlertDialog.Description className="mt-2">Its samples go, and with them its monitors, their alerts and labels. The table itself is not touched. This cannot be taken back.</AlertDialog.Description>
          {remove.error && <p role="alert" className="mt-2 text-verm">{remove.error.message}</p>}
          <div className="mt-4 flex justify-end gap-3">
            <AlertDialog.Cancel className="border border-ink px-4 py-[4px]">Keep it</AlertDialog.Cancel>
            <AlertDialog.Action className="border border-ink bg-verm px-4 py-[4px] font-[650] text-ground" onClick={() => remove.mutate(m.name)}>Remove it</AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
