import { scaleLinear, scaleLog } from "d3-scale";
import { Link } from "react-router";
import type { Detectable, Figure, Rehearsal, Replay } from "../../api/client";
import { useWidth } from "../../chart/width";
import { Mark } from "../../parts/Mark";
import { achieved, count, duration, percent, possible, signed, time } from "../../parts/words";

/**
 * Precision, recall and delay of both sides on one scale each: today a hollow circle, the proposal a brass
 * pointer.
 */
export function Compared({ r }: { r: Rehearsal }) {
  const rows = [
    {
      name: "Precision",
      of: (x: Replay) => x.card.precision_catalogue,
      say: (v: number) => v.toFixed(2),
      full: 1,
    },
    { name: "Recall", of: (x: Replay) => x.card.recall, say: (v: number) => v.toFixed(2), full: 1 },
    { name: "Delay, median", of: (x: Replay) => x.card.delay_seconds, say: duration, full: 0 },
  ];
  return (
    <table className="mt-1 w-full border-collapse">
      <thead>
        <tr className="border-b border-rule">
          <td className="py-1" />
          <td className="w-[220px]" />
          <th className="num">today</th>
          <th className="num font-bold">proposed</th>
          <th className="pl-6">difference</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(({ name, of, say, full }) => {
          const a = of(r.today),
            b = of(r.proposed);
          const most = full || Math.max(a.high ?? 0, b.high ?? 0, a.estimate ?? 0, b.estimate ?? 0, 1);
          const gap = a.estimate !== null && b.estimate !== null ? b.estimate - a.estimate : null;
          const few = !full && Math.min(a.n, b.n) < 6;
          const apart = (a.low ?? 0) > (b.high ?? Infinity) || (b.low ?? 0) > (a.high ?? Infinity);
          return (
            <tr key={name} className="h-[42px]">
              <td>{name}</td>
              <td>
                <Both a={a} b={b} most={most} />
              </td>
              <Cell f={a} say={say} />
              <Cell f={b} say={say} bold />
              <td className="pl-6">
                {gap === null
                  ? "–"
                  : full
                    ? signed(gap, 2)
                    : gap === 0
                      ? "0"
                      : `${gap > 0 ? "+" : "−"}${duration(Math.abs(gap))}`}
                <div className="text-[13px] text-ink2">
                  {gap === null
                    ? ""
                    : gap === 0
                      ? "none"
                      : few
                        ? "of too few to say"
                        : apart
                          ? "intervals apart"
                          : "may be chance"}
                </div>
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Cell({ f, say, bold }: { f: Figure; say: (v: number) => string; bold?: boolean }) {
  return (
    <td className="num">
      <span className={bold ? "font-bold" : ""}>{f.estimate === null ? "–" : say(f.estimate)}</span>
      <div className="text-[13px] text-ink2">
        {f.low === null || f.high === null ? "" : `${say(f.low)} to ${say(f.high)}`}
      </div>
    </td>
  );
}

function Both({ a, b, most }: { a: Figure; b: Figure; most: number }) {
  const x = (v: number) => 6 + (v / most) * 196;
  return (
    <svg width={208} height={34} aria-hidden>
      {a.estimate !== null && (
        <>
          <line
            x1={x(a.low ?? a.estimate)}
            x2={x(a.high ?? a.estimate)}
            y1={10}
            y2={10}
            stroke="var(--pewter-line)"
            strokeWidth="2"
          />
          <circle
            cx={x(a.estimate)}
            cy={10}
            r="4.5"
            fill="var(--ground)"
            stroke="var(--ink2)"
            strokeWidth="1.5"
          />
        </>
      )}
      {b.estimate !== null && (
        <>
          <line
            x1={x(b.low ?? b.estimate)}
            x2={x(b.high ?? b.estimate)}
            y1={25}
            y2={25}
            stroke="var(--ink)"
            strokeWidth="2"
          />
          <path d={`M${x(b.estimate) - 5} 18h10v7l-5 5-5-5Z`} fill="var(--brass-fill)" stroke="var(--ink)" />
        </>
      )}
    </svg>
  );
}

/** Stated beside achieved, of both sides. */
export function Budget({ r }: { r: Rehearsal }) {
  const row = (name: string, x: Replay, bold: boolean) => {
    const over =
      x.card.achieved.longest_seconds !== null && x.card.achieved.longest_seconds < x.card.stated_seconds;
    return (
      <tr className={bold ? "font-bold" : ""}>
        <td className="py-1">{name}</td>
        <td className="num">1 in {duration(x.card.stated_seconds)}</td>
        <td className={`num ${over ? "font-bold text-verm" : ""}`}>{achieved(x.card.achieved)}</td>
      </tr>
    );
  };
  return (
    <>
      <table className="mt-1 w-full border-collapse">
        <thead>
          <tr className="border-b border-rule">
            <td />
            <th className="num">stated</th>
            <th className="num">achieved</th>
          </tr>
        </thead>
        <tbody>
          {row("today", r.today, false)}
          {row("proposed", r.proposed, true)}
        </tbody>
      </table>
      <p className="mt-1 text-[13px] text-ink2">
        {duration((Date.parse(r.to) - Date.parse(r.from)) / 1000)} seen, one disturbance counted once:{" "}
        {possible(r.proposed.card.achieved)} is possible.
      </p>
    </>
  );
}

/** The loss that shows for sure within a time, of both sides. */
export function LossChart({
  today,
  proposed,
  sentence,
}: {
  today?: Detectable["losses"];
  proposed: Detectable["losses"];
  sentence: string;
}) {
  const [box, width] = useWidth<HTMLDivElement>();
  const list = proposed;
  if (list.length === 0) return <p className="mt-1 text-[13px] text-ink2">{sentence}</p>;
  const ends = [...list, ...(today ?? [])].map((l) => l.seconds);
  const x = scaleLog()
    .domain([Math.min(...ends), Math.max(...ends)])
    .range([34, Math.max(width - 12, 120)]);
  const y = scaleLinear().domain([0, 1]).range([104, 8]);
  const line = (l: NonNullable<Detectable["losses"]>) =>
    l.map((p, i) => `${i ? "L" : "M"}${x(p.seconds)} ${y(p.always)}`).join("");
  return (
    <div ref={box}>
      <svg width={width} height={126} role="img" aria-label={sentence} className="mt-1">
        {[0, 0.5, 1].map((t) => (
          <g key={t}>
            <line x1={34} x2={width - 12} y1={y(t)} y2={y(t)} stroke={t ? "var(--hair)" : "var(--ink)"} />
            <text x={28} y={y(t) + 4} textAnchor="end">
              {percent(t)}
            </text>
          </g>
        ))}
        {today && today.length > 0 && (
          <path
            d={line(today)}
            fill="none"
            stroke="var(--pewter-line)"
            strokeDasharray="3 2.5"
            strokeWidth="1.4"
          />
        )}
        <path d={line(list)} fill="none" stroke="var(--ink)" strokeWidth="1.6" />
        {list.map((p) => (
          <g key={p.seconds}>
            <circle cx={x(p.seconds)} cy={y(p.always)} r="2.5" fill="var(--ink)" />
            <text x={x(p.seconds)} y={121} textAnchor="middle">
              {duration(p.seconds)}
            </text>
          </g>
        ))}
      </svg>
      <p className="text-[13px] text-ink2">{sentence}</p>
    </div>
  );
}

const outcome = { hit: "fault", repeat: "fault", false: "noise", planned: "planned" } as const;

/** What would no longer be told, what would be new, and what stays. */
export function Changes({ r }: { r: Rehearsal }) {
  const rows = [...r.gone.map((a) => ["gone", a] as const), ...r.new.map((a) => ["new", a] as const)];
  return (
    <div className="mt-1">
      {rows.slice(0, 12).map(([what, a], i) => (
        <div
          key={i}
          className="grid grid-cols-[52px_130px_150px_minmax(0,1fr)] gap-3 border-b border-hair py-[4px]"
        >
          <b className="font-[650]">{what}</b>
          <Mark state={outcome[a.outcome]} word={a.outcome === "false" ? "false alarm" : a.outcome} />
          <span>{time(a.since, r.zone)}</span>
          <span className="truncate text-ink2">
            {a.segment} {a.rule}
            {a.incident && (
              <>
                , <Link to="/incidents">{a.incident}</Link>
              </>
            )}
          </span>
        </div>
      ))}
      {rows.length > 12 && <p className="mt-1 text-ink2">and {count(rows.length - 12, "more", "more")}</p>}
      <p className="mt-1 text-ink2">{count(r.stays, "alert")} told as today.</p>
    </div>
  );
}
