import { scaleLinear } from "d3-scale";
import { useState } from "react";
import { Link } from "react-router";
import type { Card, Figure, Scorecard } from "../api/client";
import { type Grouping, useGroups } from "../api/learning";
import { useBacktest, useScorecard } from "../api/queries";
import { useWidth } from "../chart/width";
import { Choice } from "../parts/Controls";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { useZone } from "../parts/zone";
import { duration, number, percent, time } from "../parts/words";
import { download } from "./save";
import { Learning } from "./scorecard/Learning";
import { columns, range } from "./scorecard/columns";
import { Periods } from "./scorecard/Periods";
import { Button } from "../parts/Form";
import { Table } from "../parts/Table";
import { Trend, Load } from "./scorecard/Weeks";

function sentence(s: Scorecard): string {
  const { precision: p, recall: r } = s.overall;
  if (p.estimate === null && r.estimate === null)
    return "Nothing is labelled yet and no incident is on record: there is no score.";
  const first =
    p.estimate === null
      ? "No alert is labelled yet"
      : `${percent(p.estimate)} of the labelled alerts were worth waking for`;
  const second =
    r.estimate === null
      ? "no incident is on record"
      : `${percent(r.estimate)} of known incidents reached someone`;
  return `${first}, and ${second}.`;
}

const between = (f: Figure) =>
  f.low === null || f.high === null ? "" : `between ${percent(f.low)} and ${percent(f.high)}`;

const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

export function ScorecardPage() {
  const score = useScorecard();
  const zone = useZone() ?? "UTC";
  const s = score.data;
  if (!s)
    return (
      <Page place="Scorecard" sentence="">
        <Trouble what="The scorecard" error={score.error} />
        {score.isPending && <Reading what="the scorecard" />}
      </Page>
    );
  const o = s.overall;
  const labelled = o.alerts - o.unlabelled;
  return (
    <Page
      place={`Scorecard, all teams, by week, ${time(s.from, zone, "day")} to ${time(s.to, zone, "day")}`}
      sentence={sentence(s)}
      after={
        `${capital(between(o.precision))}${o.recall.low !== null ? `, and ${between(o.recall)}` : ""}, ` +
        "95 times in 100. Time to detect: median " +
        `${o.delay_seconds.estimate === null ? "–" : duration(o.delay_seconds.estimate)}. ` +
        `False alarms: ${range(o)} a ` +
        `week${o.unlabelled > 0 ? ", from what is labelled to what nobody labelled" : ""}.`
      }
    >
      <div className="mt-4 grid grid-cols-3 gap-9 max-md:grid-cols-1">
        <Section title="Precision" note="share of labelled alerts that were faults">
          <Trend weeks={s.weeks} pick={(w) => w.precision} overall={o.precision} zone={zone} />
        </Section>
        <Section title="Recall" note="share of incidents anyone was told of">
          <Trend weeks={s.weeks} pick={(w) => w.recall} overall={o.recall} zone={zone} />
        </Section>
        <Section title="Alert load" note="alerts a week, by label">
          <Load weeks={s.weeks} zone={zone} />
        </Section>
      </div>
      <Learning />
      <Broken cards={s.monitors} />
      <Periods to={s.to} zone={zone} />
      <Replay />
      <div className="mt-4 grid grid-cols-2 gap-9 max-md:grid-cols-1">
        <Section
          title={`What the ${o.unlabelled} unlabelled could do`}
          right={
            <Link to="/alerts?show=none">
              {labelled} of {o.alerts} alerts labelled
            </Link>
          }
        >
          <Bounds card={o} />
        </Section>
        <Section title="Missed" right={<Link to="/incidents">the catalogue</Link>}>
          <p className="mt-2">
            {s.missed.length === 0 ? "No known incident was missed." : s.missed.join(", ")}
          </p>
          {s.unwatched > 0 && (
            <p className="mt-1 text-ink2">{s.unwatched} of them on measures that no monitor covers yet.</p>
          )}
          <p className="mt-1 text-ink2">
            Of all alerts, labels set aside, {o.precision_catalogue.k} of {o.precision_catalogue.n} match an
            incident of the catalogue; F1 of labels and catalogue is {number(o.f1, 2)}.
          </p>
        </Section>
      </div>
    </Page>
  );
}

const groupings = [
  ["monitor", "monitor"],
  ["dataset", "dataset"],
  ["measure", "measure"],
  ["segment", "segment"],
  ["owner", "owner"],
  ["tag", "tag"],
  ["rule", "rule"],
  ["channel", "channel"],
  ["month", "month"],
] as const;

/** The score broken down, each line a way to the alerts behind it. */
function Broken({ cards }: { cards: Card[] }) {
  const [by, setBy] = useState<Grouping | "monitor">("monitor");
  const groups = useGroups(by);
  const shown = by === "monitor" ? cards : groups.data?.groups;
  return (
    <Section
      className="mt-4"
      title="By"
      note={<Choice name="Broken down by" value={by} options={groupings} onChange={setBy} />}
      right={shown && `${shown.length}, ${by === "month" ? "in order" : "worst precision first"}`}
    >
      {shown ? (
        <Table
          name="scores"
          words={(c) => `${c.dataset} ${c.monitor} ${c.name}`}
          className="mt-1"
          columns={columns(by)}
          rows={shown}
          id={(c) => c.monitor || c.name}
        />
      ) : (
        <Reading what={`the score by ${by}`} />
      )}
    </Section>
  );
}

const quoted = (text: string) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);

/** The monitors as they are now, replayed over a stretch of the past. */
function Replay() {
  const replay = useBacktest();
  const b = replay.data;
  const csv = () => {
    const head = [
      "monitor",
      "dataset",
      "measure",
      "segment",
      "since",
      "raised_at",
      "closed_at",
      "severity",
      "direction",
      "rule",
      "outcome",
      "incident",
    ] as const;
    const lines = b!.alerts.map((a) => head.map((k) => quoted(String(a[k] ?? ""))).join(","));
    download(
      "backtest.csv",
      new Blob([head.join(",") + "\n" + lines.join("\n") + "\n"], { type: "text/csv" }),
    );
  };
  return (
    <Section
      className="mt-4"
      title="Replay the past"
      note="today's settings, walking forward; labels and events only as far as they were known"
    >
      <div className="mt-2 flex items-center gap-3">
        {[28, 60, 77].map((days) => (
          <Button key={days} disabled={replay.isPending} onClick={() => replay.mutate(days)}>
            last {days} days
          </Button>
        ))}
        <span role="status" className="text-ink2">
          {replay.isPending && "replaying …"}
          {replay.error && <span className="text-verm">{replay.error.message}</span>}
          {b &&
            `${b.alerts.length} alerts on ${b.series} series: ` +
              `${b.overall.precision_catalogue.k} of ${b.overall.precision_catalogue.n} match ` +
              `an incident (precision ${number(b.overall.precision_catalogue.estimate, 2)}), ` +
              `${b.overall.recall.k} of ${b.overall.recall.n} incidents found (recall ` +
              `${number(b.overall.recall.estimate, 2)}), median delay ` +
              (b.overall.delay_seconds.estimate === null ? "–" : duration(b.overall.delay_seconds.estimate)) +
              "."}
        </span>
        {b && (
          <Button look="text" onClick={csv}>
            CSV of the alerts
          </Button>
        )}
      </div>
    </Section>
  );
}

/** What precision would be if every unlabelled alert were noise, or a fault. */
function Bounds({ card: c }: { card: Card }) {
  const [box, width] = useWidth<HTMLDivElement>();
  const x = scaleLinear()
    .domain([0, 1])
    .range([74, width - 20]);
  if (c.precision_if_all_noise === null || c.precision_if_all_faults === null)
    return <p className="mt-2 text-ink2">No alert yet.</p>;
  const lo = x(c.precision_if_all_noise),
    hi = x(c.precision_if_all_faults);
  return (
    <div ref={box}>
      <svg
        width={width}
        height={96}
        role="img"
        aria-label={
          `between ${c.precision_if_all_noise.toFixed(2)} and ` + `${c.precision_if_all_faults.toFixed(2)}`
        }
      >
        {[0, 0.2, 0.4, 0.6, 0.8, 1].map((t) => (
          <g key={t}>
            <line x1={x(t)} x2={x(t)} y1={24} y2={74} stroke="var(--hair)" />
            <text x={x(t)} y={90} textAnchor="middle">
              {t.toFixed(1)}
            </text>
          </g>
        ))}
        <text x={0} y={44}>
          precision
        </text>
        <rect x={lo} width={Math.max(hi - lo, 1)} y={36} height={7} fill="var(--pewter2)" />
        {c.precision.estimate !== null && (
          <>
            <rect x={x(c.precision.estimate) - 1} width={2} y={31} height={17} fill="var(--ink)" />
            <text
              x={x(c.precision.estimate)}
              y={18}
              textAnchor="middle"
              style={{ fill: "var(--ink)", fontWeight: 600 }}
            >
              as labelled {c.precision.estimate.toFixed(2)}
            </text>
          </>
        )}
        <text x={lo} y={62} textAnchor="middle">
          all noise {c.precision_if_all_noise.toFixed(2)}
        </text>
        <text x={hi} y={62} textAnchor={hi > width - 70 ? "end" : "middle"}>
          all faults {c.precision_if_all_faults.toFixed(2)}
        </text>
      </svg>
    </div>
  );
}
