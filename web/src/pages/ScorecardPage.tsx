import { scaleLinear } from "d3-scale";
import { useState } from "react";
import { Link } from "react-router";
import type { Card, Figure, Scorecard, Week } from "../api/client";
import { type Grouping, useGroups } from "../api/learning";
import { useBacktest, useScorecard } from "../api/queries";
import { Interval } from "../chart/Interval";
import { useWidth } from "../chart/width";
import { Choice } from "../parts/Controls";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { useZone } from "../parts/Masthead";
import { achieved, atWorst, duration, number, percent, possible, time } from "../parts/words";
import { download } from "./save";
import { Learning } from "./scorecard/Learning";
import { Periods } from "./scorecard/Periods";

function sentence(s: Scorecard): string {
  const { precision: p, recall: r } = s.overall;
  if (p.estimate === null && r.estimate === null) return "Nothing is labelled yet and no incident is on record: there is no score.";
  const first = p.estimate === null ? "No alert is labelled yet" : `${percent(p.estimate)} of the labelled alerts were worth waking for`;
  const second = r.estimate === null ? "no incident is on record" : `${percent(r.estimate)} of known incidents reached someone`;
  return `${first}, and ${second}.`;
}

const between = (f: Figure) => (f.low === null || f.high === null ? "" : `between ${percent(f.low)} and ${percent(f.high)}`);

const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

export function ScorecardPage() {
  const score = useScorecard();
  const zone = useZone() ?? "UTC";
  const s = score.data;
  if (!s) return <Page place="Scorecard" sentence=""><Trouble what="The scorecard" error={score.error} />{score.isPending && <Reading what="the scorecard" />}</Page>;
  const o = s.overall;
  const labelled = o.alerts - o.unlabelled;
  return (
    <Page place={`Scorecard, all teams, by week, ${time(s.from, zone, "day")} to ${time(s.to, zone, "day")}`} sentence={sentence(s)}
      after={`${capital(between(o.precision))}${o.recall.low !== null ? `, and ${between(o.recall)}` : ""}, 95 times in 100. Time to detect: median ${o.delay_seconds.estimate === null ? "–" : duration(o.delay_seconds.estimate)}. False alarms: ${range(o)} a week${o.unlabelled > 0 ? ", from what is labelled to what nobody labelled" : ""}.`}>
      <div className="mt-4 grid grid-cols-3 gap-9">
        <Section title="Precision" note="share of labelled alerts that were faults"><Trend weeks={s.weeks!} pick={(w) => w.precision} overall={o.precision} zone={zone} /></Section>
        <Section title="Recall" note="share of incidents anyone was told of"><Trend weeks={s.weeks!} pick={(w) => w.recall} overall={o.recall} zone={zone} /></Section>
        <Section title="Alert load" note="alerts a week, by label"><Load weeks={s.weeks!} zone={zone} /></Section>
      </div>
      <Learning />
      <Broken cards={s.monitors!} />
      <Periods to={s.to} zone={zone} />
      <Replay />
      <div className="mt-4 grid grid-cols-2 gap-9">
        <Section title={`What the ${o.unlabelled} unlabelled could do`} right={<Link to="/alerts?show=none">{labelled} of {o.alerts} alerts labelled</Link>}><Bounds card={o} /></Section>
        <Section title="Missed" right={<Link to="/incidents">the catalogue</Link>}>
          <p className="mt-2">{s.missed!.length === 0 ? "No known incident was missed." : s.missed!.join(", ")}</p>
          {s.unwatched > 0 && <p className="mt-1 text-ink2">{s.unwatched} of them on measures that no monitor covers yet.</p>}
          <p className="mt-1 text-ink2">Of all alerts, labels set aside, {o.precision_catalogue.k} of {o.precision_catalogue.n} match an incident of the catalogue; F1 of labels and catalogue is {number(o.f1, 2)}.</p>
        </Section>
      </div>
    </Page>
  );
}

const groupings = [["monitor", "monitor"], ["dataset", "dataset"], ["measure", "measure"], ["segment", "segment"], ["owner", "owner"], ["tag", "tag"], ["rule", "rule"], ["channel", "channel"], ["month", "month"]] as const;

/** The score broken down, each line a way to the alerts behind it. */
function Broken({ cards }: { cards: Card[] }) {
  const [by, setBy] = useState<Grouping | "monitor">("monitor");
  const groups = useGroups(by);
  const shown = by === "monitor" ? cards : groups.data?.groups;
  return (
    <Section className="mt-4" title="By" note={<Choice name="Broken down by" value={by} options={groupings} onChange={setBy} />} right={shown && `${shown.length}, ${by === "month" ? "in order" : "worst precision first"}`}>
      {shown ? <Monitors cards={shown} by={by} /> : <Reading what={`the score by ${by}`} />}
    </Section>
  );
}

const quoted = (text: string) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);

/** The monitors as they are now, replayed over a stretch of the past. */
function Replay() {
  const replay = useBacktest();
  const b = replay.data;
  const csv = () => {
    const head = ["monitor", "dataset", "measure", "segment", "since", "raised_at", "closed_at", "severity", "direction", "rule", "outcome", "incident"] as const;
    const lines = b!.alerts!.map((a) => head.map((k) => quoted(String(a[k] ?? ""))).join(","));
    download("backtest.csv", new Blob([head.join(",") + "\n" + lines.join("\n") + "\n"], { type: "text/csv" }));
  };
  return (
    <Section className="mt-4" title="Replay the past" note="today's settings, walking forward; labels and events only as far as they were known">
      <div className="mt-2 flex items-center gap-3">
        {[28, 60, 77].map((days) => (
          <button key={days} disabled={replay.isPending} className="border border-ink px-3 py-1 disabled:text-ink3" onClick={() => replay.mutate(days)}>last {days} days</button>
        ))}
        <span role="status" className="text-ink2">
          {replay.isPending && "replaying …"}
          {replay.error && <span className="text-verm">{replay.error.message}</span>}
          {b && `${b.alerts!.length} alerts on ${b.series} series: ${b.overall.precision_catalogue.k} of ${b.overall.precision_catalogue.n} match an incident (precision ${number(b.overall.precision_catalogue.estimate, 2)}), ${b.overall.recall.k} of ${b.overall.recall.n} incidents found (recall ${number(b.overall.recall.estimate, 2)}), median delay ${b.overall.delay_seconds.estimate === null ? "–" : duration(b.overall.delay_seconds.estimate)}.`}
        </span>
        {b && <button className="underline decoration-pewter-line underline-offset-3" onClick={csv}>CSV of the alerts</button>}
      </div>
    </Section>
  );
}

/** A figure by week with its intervals; the whole stretch stands at the end. */
function Trend({ weeks, pick, overall, zone }: { weeks: Week[]; pick: (w: Week) => Figure; overall: Figure; zone: string }) {
  const [box, width] = useWidth<HTMLDivElement>();
  const left = 32, right = 44, height = 190, bottom = 166;
  const x = (i: number) => left + 10 + (i * (width - left - right - 20)) / Math.max(weeks.length - 1, 1);
  const y = scaleLinear().domain([0, 1]).range([bottom, 10]);
  const known = weeks.map((w, i) => ({ w, i, f: pick(w) })).filter((v) => v.f.estimate !== null);
  return (
    <div ref={box}>
      <svg width={width} height={height} role="img" aria-label="by week">
        {[0, 0.25, 0.5, 0.75, 1].map((t) => (
          <g key={t}><line x1={left} x2={width - right} y1={y(t)} y2={y(t)} stroke={t === 0 ? "var(--ink)" : "var(--hair)"} /><text x={left - 6} y={y(t) + 4} textAnchor="end">{t.toFixed(2)}</text></g>
        ))}
        {known.map(({ f, i }) => <rect key={i} x={x(i) - 3.5} width={7} y={y(f.high!)} height={y(f.low!) - y(f.high!)} fill="var(--pewter2)" />)}
        <path d={known.map(({ f, i }, k) => `${k ? "L" : "M"}${x(i)},${y(f.estimate!)}`).join("")} fill="none" stroke="var(--ink)" strokeWidth="1.5" />
        {known.map(({ f, i }) => <circle key={i} cx={x(i)} cy={y(f.estimate!)} r="3" fill="var(--ink)"><title>{`${f.k} of ${f.n}`}</title></circle>)}
        {overall.estimate !== null && <text x={width - right + 6} y={y(overall.estimate) + 5} style={{ fontSize: 14.5, fontWeight: 650, fill: "var(--ink)" }}>{overall.estimate.toFixed(2)}</text>}
        {weeks.map((w, i) => i % 3 === 0 && <text key={i} x={x(i)} y={height - 8} textAnchor="middle">{time(w.from, zone, "day").slice(4)}</text>)}
      </svg>
    </div>
  );
}

/** Alerts a week: faults in ink at the bottom, then planned, noise, unlabelled. */
function Load({ weeks, zone }: { weeks: Week[]; zone: string }) {
  const [box, width] = useWidth<HTMLDivElement>();
  const left = 26, right = 74, height = 190, bottom = 166;
  const total = (w: Week) => w.faults + w.noise + w.planned + w.unlabelled;
  const most = Math.max(...weeks.map(total), 4);
  const y = scaleLinear().domain([0, most]).nice(4).range([bottom, 10]);
  const step = (width - left - right) / Math.max(weeks.length, 1);
  const parts = [["faults", "var(--ink)", "none"], ["planned", "var(--violet-wash)", "var(--violet)"], ["noise", "var(--pewter)", "var(--noise)"], ["unlabelled", "none", "var(--ink2)"]] as const;
  const names = { faults: "fault", planned: "planned", noise: "noise", unlabelled: "unlabelled" };
  return (
    <div ref={box}>
      <svg width={width} height={height} role="img" aria-label="alerts a week by label">
        {y.ticks(4).filter(Number.isInteger).map((t) => <g key={t}><line x1={left} x2={width - right} y1={y(t)} y2={y(t)} stroke={t ? "var(--hair)" : "var(--ink)"} /><text x={left - 6} y={y(t) + 4} textAnchor="end">{t}</text></g>)}
        {weeks.map((w, i) => {
          let base = 0;
          return parts.map(([name, fill, stroke]) => {
            const n = w[name], top = base + n;
            const bar = n > 0 && <rect key={name + i} x={left + i * step + 2} width={Math.max(step - 4, 3)} y={y(top) + 0.5} height={y(base) - y(top) - 1} fill={fill} stroke={stroke} strokeDasharray={name === "unlabelled" ? "3 2" : undefined}><title>{`${n} ${names[name]}`}</title></rect>;
            base = top;
            return bar;
          });
        })}
        {parts.map(([name], k) => <text key={name} x={width - right + 8} y={bottom - 4 - k * 18} style={{ fill: name === "planned" ? "var(--violet)" : "var(--ink2)", fontWeight: name === "faults" ? 600 : 400 }}>{names[name]}</text>)}
        {weeks.map((w, i) => i % 3 === 0 && <text key={i} x={left + (i + 0.5) * step} y={height - 8} textAnchor="middle">{time(w.from, zone, "day").slice(4)}</text>)}
      </svg>
    </div>
  );
}

/** False alarms a week: labelled noise, and up to what they would be if all that is unlabelled were noise. */
function range(c: Card): string {
  const least = c.false_alarms_per_week.estimate ?? 0, most = c.false_alarms_per_week_if_all_noise ?? least;
  return most - least < 0.05 ? number(least, 1) : `${number(least, 1)} to ${number(most, 1)}`;
}

function Monitors({ cards, by }: { cards: Card[]; by: Grouping | "monitor" }) {
  const behind = (c: Card) => (by === "monitor" ? `monitor=${c.monitor}` : by === "month" ? `from=${c.name}-01` : `${by}=${encodeURIComponent(c.name)}`);
  return (
    <table className="mt-1 w-full border-collapse">
      <thead>
        <tr className="border-b border-rule"><th className="py-1">{by}</th><th><span className="flex w-[116px] justify-between"><i>0</i>precision<i>1</i></span></th><th className="num">faults of labelled</th><th className="num">incidents found</th><th className="num">delay</th><th className="num">false alarms a week</th><th className="num">budget stated</th><th className="num">achieved</th><th className="num">unlabelled</th></tr>
      </thead>
      <tbody>
        {cards.map((c) => {
          const over = c.stated_seconds > 0 && c.achieved.longest_seconds !== null && c.achieved.longest_seconds < c.stated_seconds;
          return (
            <tr key={c.monitor || c.name} className="h-[29px]">
              <td>{by === "monitor" ? <><Link to={`/datasets/${c.dataset}`}><code>{c.dataset}</code></Link>, <Link to={`/monitors/${c.monitor}`}>{c.monitor}</Link></> : c.name.startsWith("(") ? <span className="text-ink2">{c.name}</span> : <Link to={by === "tag" ? `/tags/${encodeURIComponent(c.name)}` : `/alerts?${behind(c)}`}>{c.name.replaceAll("_", " ") || "the whole dataset"}</Link>}</td>
              <td><Interval figure={c.precision} /></td>
              <td className="num"><b className="font-[650]">{c.precision.estimate === null ? "–" : c.precision.estimate.toFixed(2)}</b> <Link to={`/alerts?${behind(c)}`}>{c.faults} of {c.faults + c.noise}</Link></td>
              <td className="num">{c.recall.n ? `${c.recall.k} of ${c.recall.n}` : "–"}</td>
              <td className="num">{c.delay_seconds.estimate === null ? "–" : duration(c.delay_seconds.estimate)}</td>
              <td className="num" title="labelled noise; to the right, if every unlabelled alert that matches no incident were noise too">{range(c)}</td>
              <td className="num">{c.stated_seconds ? `1 in ${duration(c.stated_seconds)}` : "–"}</td>
              <td className={`num ${over ? "font-bold text-verm" : ""}`} title={`95 %: ${possible(c.achieved)}${atWorst(c.achieved) && `; ${atWorst(c.achieved)} if all that is unlabelled were noise`}`}>{achieved(c.achieved)} <span className="font-normal text-ink3">{c.achieved.seconds !== null && possible(c.achieved).replace("1 in ", "")}</span></td>
              <td className="num">{c.unlabelled ? <Link to={`/alerts?show=none&${behind(c)}`}>{c.unlabelled}</Link> : <span className="text-ink3">0</span>}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** What precision would be if every unlabelled alert were noise, or a fault. */
function Bounds({ card: c }: { card: Card }) {
  const [box, width] = useWidth<HTMLDivElement>();
  const x = scaleLinear().domain([0, 1]).range([74, width - 20]);
  if (c.precision_if_all_noise === null || c.precision_if_all_faults === null) return <p className="mt-2 text-ink2">No alert yet.</p>;
  const lo = x(c.precision_if_all_noise), hi = x(c.precision_if_all_faults);
  return (
    <div ref={box}>
      <svg width={width} height={96} role="img" aria-label={`between ${c.precision_if_all_noise.toFixed(2)} and ${c.precision_if_all_faults.toFixed(2)}`}>
        {[0, 0.2, 0.4, 0.6, 0.8, 1].map((t) => <g key={t}><line x1={x(t)} x2={x(t)} y1={24} y2={74} stroke="var(--hair)" /><text x={x(t)} y={90} textAnchor="middle">{t.toFixed(1)}</text></g>)}
        <text x={0} y={44}>precision</text>
        <rect x={lo} width={Math.max(hi - lo, 1)} y={36} height={7} fill="var(--pewter2)" />
        {c.precision.estimate !== null && <><rect x={x(c.precision.estimate) - 1} width={2} y={31} height={17} fill="var(--ink)" /><text x={x(c.precision.estimate)} y={18} textAnchor="middle" style={{ fill: "var(--ink)", fontWeight: 600 }}>as labelled {c.precision.estimate.toFixed(2)}</text></>}
        <text x={lo} y={62} textAnchor="middle">all noise {c.precision_if_all_noise.toFixed(2)}</text>
        <text x={hi} y={62} textAnchor={hi > width - 70 ? "end" : "middle"}>all faults {c.precision_if_all_faults.toFixed(2)}</text>
      </svg>
    </div>
  );
}
