import { memo } from "react";
import { Link, useNavigate } from "react-router";
import type { Alert, Card, Health } from "../../api/client";
import { DeviationMark, Interval } from "../../chart/Interval";
import { Spark } from "../../chart/Small";
import { Mark } from "../../parts/Mark";
import { useMore } from "../../parts/more";
import { bytes, count, duration, number, signed, time } from "../../parts/words";

type Picked = readonly [number, number];

/** How many labelled alerts of a dataset were faults, and how many were labelled. */
type Score = { k: number; n: number };

/** The scores of monitors, put together by dataset. */
export function scoresOf(cards: Card[]): Map<string, Score> {
  const by = new Map<string, Score>();
  for (const c of cards) {
    const s = by.get(c.dataset) ?? { k: 0, n: 0 };
    by.set(c.dataset, { k: s.k + c.faults, n: s.n + c.faults + c.noise });
  }
  return by;
}

/** Datasets as rows, a screenful and more as they come into sight. */
export function Rows({
  list,
  unit,
  picked,
  during,
  scores,
  now,
}: {
  list: Health[];
  unit: "rows" | "bytes";
  picked: Picked | undefined;
  /** Alerts of a dataset in the stretch that is picked. */
  during: (dataset: string) => Alert[];
  scores: Map<string, Score>;
  now: string | undefined;
}) {
  const [shown, more] = useMore(list.length, 24); // each has a chart
  const go = useNavigate();
  return (
    <>
      {list.slice(0, shown).map((h) => {
        const there = picked ? during(h.dataset.name) : [];
        const score = scores.get(h.dataset.name);
        return (
          <Row
            key={h.dataset.name}
            h={h}
            unit={unit}
            picked={picked}
            told={there.length}
            first={there.length > 0 ? there[0].id : 0}
            k={score?.k ?? 0}
            n={score?.n ?? 0}
            now={now}
            go={go}
          />
        );
      })}
      {list.length > shown && (
        <tr ref={more}>
          <td colSpan={14} className="pt-3 text-ink2">
            {number(list.length - shown)} more as you scroll
          </td>
        </tr>
      )}
    </>
  );
}

/** One dataset; it is drawn again only where something of it changed. */
const Row = memo(function Row({
  h,
  unit,
  picked,
  told,
  first,
  k,
  n,
  now,
  go,
}: {
  h: Health;
  unit: "rows" | "bytes";
  picked: Picked | undefined;
  told: number;
  first: number;
  k: number;
  n: number;
  now: string | undefined;
  go: (to: string) => void;
}) {
  const part = picked && within(h, picked);
  const open = () => go(`/datasets/${h.dataset.name}`);
  return (
    <tr
      tabIndex={0}
      className="open-row h-[37px] cursor-pointer"
      onClick={open}
      onKeyDown={(e) => e.key === "Enter" && open()}
    >
      <td className={h.worst ? "font-semibold" : ""}>
        <code>{h.dataset.name}</code>
        {h.spark_of && h.spark_of !== "rows" && (
          <span className="ml-2 text-[12.5px] text-ink2">{h.spark_of}</span>
        )}
      </td>
      <td>
        <Spark spark={h.spark} picked={picked} width={136} />
      </td>
      {part ? (
        <>
          <td className="num">{number(part.rows)}</td>
          <td className="num pr-6">{part.change === null ? "–" : `${signed(100 * part.change, 0)} %`}</td>
        </>
      ) : unit === "bytes" ? (
        [h.bytes_24h, h.bytes_7d, h.bytes_30d, h.bytes_per_row].map((b, i) => (
          <td key={i} className="num">
            {bytes(b)}
          </td>
        ))
      ) : (
        <>
          <td className="num">{number(h.rows_24h)}</td>
          <td className="pl-2">
            <Range low={h.lowest_24h} high={h.highest_24h} now={h.rows_24h} />
          </td>
          <td className="num">{number(h.rows_7d)}</td>
          <td className="num">{number(h.rows_30d)}</td>
        </>
      )}
      <td className="pl-4">
        <DeviationMark value={h.deviation_24h} />
      </td>
      <td className={`num pr-2 ${Math.abs(h.deviation_24h ?? 0) > 1 ? "font-bold text-verm" : ""}`}>
        {h.deviation_24h === null ? "–" : signed(h.deviation_24h)}
      </td>
      <td className={`num ${h.load?.overdue ? "font-bold text-verm" : ""}`}>
        {h.age_seconds === null ? "–" : duration(h.age_seconds)}
      </td>
      <td className="num pr-5">{when(h, now)}</td>
      <td title={h.message}>
        <Mark state={h.state === "overdue" ? "silent" : h.state} />
      </td>
      <td>
        {picked ? (
          told > 0 ? (
            <Link to={`/alerts/${first}`} onClick={(e) => e.stopPropagation()}>
              {count(told, "alert")}
            </Link>
          ) : (
            <span className="text-ink3">none</span>
          )
        ) : h.worst ? (
          <Mark state={h.worst} word={h.open_alerts > 1 ? `${h.worst}, +${h.open_alerts - 1}` : h.worst} />
        ) : (
          <span className="text-ink3">none</span>
        )}
      </td>
      <td>{n > 0 && <Interval width={60} figure={wilson(k, n)} />}</td>
      <td className="num">{n > 0 ? (k / n).toFixed(2) : "–"}</td>
    </tr>
  );
});

/** Where the last day lies between the days with fewest and most rows. */
function Range({ low, high, now }: { low: number | null; high: number | null; now: number | null }) {
  if (low === null || high === null || now === null) return null;
  const width = 84,
    x = (v: number) => (high > low ? 2 + ((v - low) / (high - low)) * (width - 4) : width / 2);
  return (
    <svg
      width={width}
      height={16}
      role="img"
      aria-label={`${number(low)} to ${number(high)}`}
      className="mx-auto block"
    >
      <title>{`${number(low)} to ${number(high)} rows a day`}</title>
      <line x1={2} x2={width - 2} y1={8} y2={8} stroke="var(--pewter-line)" />
      <line x1={2} x2={2} y1={5} y2={11} stroke="var(--pewter-line)" />
      <line x1={width - 2} x2={width - 2} y1={5} y2={11} stroke="var(--pewter-line)" />
      <circle cx={Math.min(Math.max(x(now), 3), width - 3)} cy={8} r={3} fill="var(--ink)" />
    </svg>
  );
}

/** What came in a stretch, of a dataset's small chart. */
function within(h: Health, picked: Picked) {
  const from = Date.parse(h.spark.from),
    period = h.spark.period_seconds * 1000;
  let rows = 0,
    expected = 0,
    n = 0;
  h.spark.observed.forEach((v, i) => {
    const at = from + i * period;
    if (v === null || at < picked[0] || at >= picked[1]) return;
    rows += v;
    n++;
    expected += h.spark.expected?.[i] ?? 0;
  });
  return {
    rows: n > 0 && h.rows_7d !== null ? rows : null,
    change: n > 0 && h.rows_7d !== null && expected > 0 ? rows / expected - 1 : null,
  };
}

/** When the next load is due. */
function when(h: Health, now?: string): string {
  if (!h.load) return "–";
  const at = h.load.deadline,
    zone = h.dataset.zone;
  const today = now && time(now, zone, "day") === time(at, zone, "day");
  return today ? time(at, zone, "time") : time(at, zone, "short");
}

/** Wilson's 95 % interval of a share. */
function wilson(k: number, n: number) {
  const z2 = 3.8415,
    p = k / n;
  const centre = (p + z2 / (2 * n)) / (1 + z2 / n);
  const half = (Math.sqrt(z2) / (1 + z2 / n)) * Math.sqrt((p * (1 - p)) / n + z2 / (4 * n * n));
  return { estimate: p, low: Math.max(centre - half, 0), high: Math.min(centre + half, 1), k, n };
}
