import { useCallback, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Health } from "../api/client";
import { useAlerts, useHealth, useMe, useScorecard } from "../api/queries";
import { Brush } from "../chart/Brush";
import { DeviationMark, Interval } from "../chart/Interval";
import { useWidth } from "../chart/width";
import { Spark } from "../chart/Small";
import { Choice } from "../parts/Controls";
import { Mark, type State } from "../parts/Mark";
import { Page, Reading, Trouble } from "../parts/Page";
import { bytes, count, duration, number, signed, time, word } from "../parts/words";

/** Datasets without a load come first, then the furthest from expected. */
const byDeviation = (a: Health, b: Health) => rank(b) - rank(a);
const rank = (h: Health) => (h.load?.overdue ? 1000 : 0) + (h.worst ? 100 : 0) + Math.abs(h.deviation_24h ?? 0);

function sentence(list: Health[]): string {
  if (list.length === 0) return "No dataset is watched yet.";
  const calm = list.filter((h) => !h.worst && h.state !== "failed").length;
  const late = list.filter((h) => h.load?.overdue).length;
  const failed = list.filter((h) => h.state === "failed").length;
  const more = [late && `${word(late).toLowerCase()} ${late === 1 ? "loader has" : "loaders have"} stopped`, failed && `${word(failed).toLowerCase()} cannot be read`].filter(Boolean);
  return `${word(calm)} of ${word(list.length).toLowerCase()} datasets arrive as expected${more.length ? `; ${more.join(" and ")}` : ""}.`;
}

/** Draws a screenful of rows, and further ones as their end comes into sight: a thousand at once would take seconds. */
function useMore(all: number, step = 60) {
  const [shown, setShown] = useState(step);
  const more = useCallback((end: Element | null) => {
    if (!end) return;
    const watch = new IntersectionObserver((seen) => seen.some((s) => s.isIntersecting) && setShown((n) => n + step), { rootMargin: "600px" });
    watch.observe(end);
    return () => watch.disconnect();
  }, [step]);
  return [Math.min(shown, Math.max(all, step)), more] as const;
}

const most = (of: (h: Health) => number | null) => (a: Health, b: Health) => (of(b) ?? -1) - (of(a) ?? -1);
const orders = { deviation: byDeviation, day: most((h) => h.rows_24h), week: most((h) => h.rows_7d), month: most((h) => h.rows_30d), age: most((h) => h.age_seconds) };

function Head({ name, by, sort, onSort }: { name: string; by: keyof typeof orders; sort: string; onSort: (by: keyof typeof orders) => void }) {
  return <th className="num"><button className={sort === by ? "font-bold text-ink" : ""} onClick={() => onSort(by)}>{name}{sort === by && " ▾"}</button></th>;
}

/** Where the last day lies between the days with fewest and most rows. */
function Range({ low, high, now }: { low: number | null; high: number | null; now: number | null }) {
  if (low === null || high === null || now === null) return null;
  const width = 84, x = (v: number) => (high > low ? 2 + ((v - low) / (high - low)) * (width - 4) : width / 2);
  return (
    <svg width={width} height={16} role="img" aria-label={`${number(low)} to ${number(high)}`} className="mx-auto block"><title>{`${number(low)} to ${number(high)} rows a day`}</title>
      <line x1={2} x2={width - 2} y1={8} y2={8} stroke="var(--pewter-line)" /><line x1={2} x2={2} y1={5} y2={11} stroke="var(--pewter-line)" /><line x1={width - 2} x2={width - 2} y1={5} y2={11} stroke="var(--pewter-line)" />
      <circle cx={Math.min(Math.max(x(now), 3), width - 3)} cy={8} r={3} fill="var(--ink)" />
    </svg>
  );
}

const hour = 3_600_000, day = 24 * hour;

/** What came in a stretch, of a dataset's small chart. */
function within(h: Health, picked: [number, number]) {
  const from = Date.parse(h.spark.from), period = h.spark.period_seconds * 1000;
  let rows = 0, expected = 0, n = 0;
  (h.spark.observed ?? []).forEach((v, i) => {
    const at = from + i * period;
    if (v === null || at < picked[0] || at >= picked[1]) return;
    rows += v;
    n++;
    expected += h.spark.expected?.[i] ?? 0;
  });
  return { rows: n > 0 && h.rows_7d !== null ? rows : null, change: n > 0 && h.rows_7d !== null && expected > 0 ? rows / expected - 1 : null };
}

export function DatasetsPage() {
  const health = useHealth();
  const me = useMe();
  const score = useScorecard();
  const go = useNavigate();
  const [box, width] = useWidth<HTMLDivElement>();
  const [filter, setFilter] = useState("");
  const [unit, setUnit] = useState<"rows" | "bytes">("rows");
  const [sort, setSort] = useState<keyof typeof orders>("deviation");
  const [search, setSearch] = useSearchParams();
  const now = me.data ? Date.parse(me.data.now) : Date.now();
  const end = Math.ceil(now / hour) * hour, start = end - 7 * day;
  const picked = search.get("from") && search.get("to") ? ([Date.parse(search.get("from")!), Date.parse(search.get("to")!)] as [number, number]) : undefined;
  const alerts = useAlerts({ from: new Date(start).toISOString(), limit: 500 });
  const told = alerts.data?.alerts ?? [];
  const during = (dataset: string) => told.filter((a) => a.dataset === dataset && (!picked || (Date.parse(a.since) < picked[1] && (!a.ended_at || Date.parse(a.ended_at) > picked[0]))));
  const list = [...(health.data ?? [])].filter((h) => `${h.dataset.name} ${h.dataset.owner} ${h.state} ${h.dataset.tags!.join(" ")}`.toLowerCase().includes(filter.toLowerCase())).sort(orders[sort]);
  const [shown, more] = useMore(list.length);
  const zone = health.data?.[0]?.dataset.zone ?? "UTC";
  const raised = Array.from({ length: 7 * 24 }, (_, i) => told.filter((a) => Math.floor((Date.parse(a.raised_at) - start) / hour) === i).length);
  const pick = (p?: [number, number]) => setSearch(p ? { from: new Date(p[0]).toISOString(), to: new Date(p[1]).toISOString() } : {}, { replace: true });
  const stretch = picked && `${time(picked[0], zone)} to ${time(picked[1], zone)}`;
  return (
    <Page place={`Datasets, all ${health.data?.length ?? ""}`} sentence={health.data ? sentence(health.data) : ""}>
      <Trouble what="Datasets" error={health.error} />
      {health.isPending && <Reading what="datasets" />}
      {health.data && health.data.length === 0 && <p className="mt-3 text-ink2">Nothing is measured yet: <Link to="/setup">set up a source</Link>.</p>}
      <div className="mt-3 flex items-baseline gap-5 text-[13px] text-ink2">
        <input aria-label="Filter" className="w-72 border border-ink3 bg-field px-3 py-1 text-[14px]" placeholder="filter by name, owner, state, tag" value={filter} onChange={(e) => setFilter(e.target.value)} />
        {!picked && <Choice name="Volume by" value={unit} options={[["rows", "rows"], ["bytes", "bytes"]]} onChange={setUnit} />}
        {stretch ? <span><b className="text-ink">{stretch}</b>: rows, difference and alerts are of this stretch. <button className="underline decoration-pewter-line underline-offset-3" onClick={() => pick()}>all 7 days</button></span> : <span>Drag over the days to narrow everything to a stretch; bars are alerts raised.</span>}
        <Link className="ml-auto" to="/tags">by tag</Link>
      </div>
      <div ref={box} className="mt-2">{width > 0 && health.data && <Brush from={start} to={end} heights={raised} period={hour} zone={zone} picked={picked} onPick={pick} width={width} label="Stretch of the last seven days" />}</div>
      <table className="mt-2 w-full border-collapse border-t border-ink">
        <thead>
          <tr className="border-b border-rule align-bottom">
            <th className="py-1">dataset</th><th>against its band, 7 days</th>
            {picked ? <><th className="num">rows</th><th className="num pr-6">against expected</th></> : <>
              <Head name={`${unit}, 24 h`} by="day" sort={sort} onSort={setSort} />{unit === "rows" && <th className="pl-2 text-center">lowest–highest<br /><span className="font-normal text-ink2">of 30 days</span></th>}
              <Head name="7 d" by="week" sort={sort} onSort={setSort} /><Head name="30 d" by="month" sort={sort} onSort={setSort} />{unit === "bytes" && <th className="num">per row</th>}</>}
            <th className="w-[92px] pl-4 text-center whitespace-nowrap"><button className={sort === "deviation" ? "font-bold text-ink" : ""} onClick={() => setSort("deviation")}>deviation, 24 h{sort === "deviation" && " ▾"}</button><br /><span className="font-normal text-ink2">−1 0 +1</span></th><th />
            <Head name="newest" by="age" sort={sort} onSort={setSort} /><th className="num pr-5">next by</th><th>loader</th><th>{picked ? "alerts" : "open alerts"}</th>
            <th>precision<br /><span className="flex w-[60px] justify-between"><i>0</i><i>1</i></span></th><th />
          </tr>
        </thead>
        <tbody>
          {list.slice(0, shown).map((h) => {
            const cards = (score.data?.monitors ?? []).filter((c) => c.dataset === h.dataset.name);
            const k = cards.reduce((n, c) => n + c.faults, 0), n = cards.reduce((sum, c) => sum + c.faults + c.noise, 0);
            const part = picked && within(h, picked);
            const there = picked ? during(h.dataset.name) : [];
            return (
              <tr key={h.dataset.name} tabIndex={0} className="open-row h-[37px] cursor-pointer" onClick={() => go(`/datasets/${h.dataset.name}`)} onKeyDown={(e) => e.key === "Enter" && go(`/datasets/${h.dataset.name}`)}>
                <td className={h.worst ? "font-semibold" : ""}><code>{h.dataset.name}</code>{h.spark_of && h.spark_of !== "rows" && <span className="ml-2 text-[12.5px] text-ink2">{h.spark_of}</span>}</td>
                <td><Spark spark={h.spark} picked={picked} width={136} /></td>
                {part ? <><td className="num">{number(part.rows)}</td><td className="num pr-6">{part.change === null ? "–" : `${signed(100 * part.change, 0)} %`}</td></>
                  : unit === "bytes" ? [h.bytes_24h, h.bytes_7d, h.bytes_30d, h.bytes_per_row].map((b, i) => <td key={i} className="num">{bytes(b)}</td>)
                  : <><td className="num">{number(h.rows_24h)}</td><td className="pl-2"><Range low={h.lowest_24h} high={h.highest_24h} now={h.rows_24h} /></td><td className="num">{number(h.rows_7d)}</td><td className="num">{number(h.rows_30d)}</td></>}
                <td className="pl-4"><DeviationMark value={h.deviation_24h} /></td>
                <td className={`num pr-2 ${Math.abs(h.deviation_24h ?? 0) > 1 ? "font-bold text-verm" : ""}`}>{h.deviation_24h === null ? "–" : signed(h.deviation_24h)}</td>
                <td className={`num ${h.load?.overdue ? "font-bold text-verm" : ""}`}>{h.age_seconds === null ? "–" : duration(h.age_seconds)}</td>
                <td className="num pr-5">{h.load ? when(h, me.data?.now) : "–"}</td>
                <td title={h.message}><Mark state={(h.state === "overdue" ? "silent" : h.state) as State} /></td>
                <td>{picked ? there.length > 0 ? <Link to={`/alerts/${there[0].id}`} onClick={(e) => e.stopPropagation()}>{count(there.length, "alert")}</Link> : <span className="text-ink3">none</span>
                  : h.worst ? <Mark state={h.worst as State} word={h.open_alerts > 1 ? `${h.worst}, +${h.open_alerts - 1}` : h.worst} /> : <span className="text-ink3">none</span>}</td>
                <td>{n > 0 && <Interval width={60} figure={wilson(k, n)} />}</td>
                <td className="num">{n > 0 ? (k / n).toFixed(2) : "–"}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {list.length > shown && <p ref={more} className="mt-3 text-ink2">{number(list.length - shown)} more as you scroll</p>}
      {health.data && health.data.length > 0 && list.length === 0 && <p className="mt-3 text-ink2">Nothing fits the filter.</p>}
    </Page>
  );
}

function when(h: Health, now?: string): string {
  const at = h.load!.deadline, zone = h.dataset.zone;
  const today = now && time(now, zone, "day") === time(at, zone, "day");
  return today ? time(at, zone, "time") : time(at, zone, "short");
}

/** Wilson's 95 % interval of a share. */
function wilson(k: number, n: number) {
  const z2 = 3.8415, p = k / n;
  const centre = (p + z2 / (2 * n)) / (1 + z2 / n);
  const half = (Math.sqrt(z2) / (1 + z2 / n)) * Math.sqrt((p * (1 - p)) / n + z2 / (4 * n * n));
  return { estimate: p, low: Math.max(centre - half, 0), high: Math.min(centre + half, 1), k, n };
}
