import { Link, useParams } from "react-router";
import type { BacktestAlert, Trial } from "../api/client";
import { useTrial } from "../api/learning";
import { useChart, useNow } from "../api/queries";
import { useSteer } from "../api/setup";
import { useWidth } from "../chart/width";
import { SmallChart } from "../chart/Small";
import { Mark } from "../parts/Mark";
import { useZone } from "../parts/zone";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { count, signed, time } from "../parts/words";
import { Button } from "../parts/Form";

const day = 86_400_000;
const outcome = { hit: "fault", repeat: "fault", false: "noise", planned: "planned" } as const;

/**
 * Two configurations on the same past: what goes, what comes, and how sure that is. The address can be
 * shared.
 */
export function TrialPage() {
  const id = Number(useParams().id);
  const trial = useTrial(id);
  const steer = useSteer();
  const zone = useZone() ?? "UTC";
  const t = trial.data?.trial,
    task = trial.data?.task;
  const sentence = t
    ? t.sentence
    : task?.state === "running"
      ? "The past is being replayed."
      : task
        ? `This trial was ${task.state}.`
        : "";
  return (
    <Page
      place={
        <>
          Trial {id}
          {task && <>: {task.subject}</>}
        </>
      }
      sentence={sentence}
      after={
        t &&
        `From ${time(t.today.from, zone)} to ${time(t.today.to, zone)}, walking ` +
          "forward; labels and events only as far as they were known."
      }
    >
      <Trouble what="The trial" error={trial.error} />
      {trial.isPending && <Reading what="the trial" />}
      {task?.state === "running" && (
        <div className="mt-4 flex items-center gap-4">
          <span
            className="relative block h-[9px] w-80 border border-ink"
            role="progressbar"
            aria-valuenow={task.done}
            aria-valuemax={task.total}
            aria-label="replayed"
          >
            <i
              className="absolute inset-y-0 left-0 bg-ink"
              style={{ width: `${task.total ? (100 * task.done) / task.total : 0}%` }}
            />
          </span>
          <Button look="text" onClick={() => steer.mutate({ id, verb: "cancel" })}>
            cancel
          </Button>
        </div>
      )}
      {task?.state === "failed" && (
        <p role="alert" className="mt-3 text-verm">
          {task.message}
        </p>
      )}
      {t && <Result t={t} zone={zone} />}
    </Page>
  );
}

function Result({ t, zone }: { t: Trial; zone: string }) {
  const p = t.paired;
  const share = (v: number | null) => (v === null ? "–" : v.toFixed(2));
  const between = (a: number | null, b: number | null) =>
    a === null || b === null ? "" : `${signed(a, 2)} to ${signed(b, 2)}`;
  const wolves = (b: Trial["today"]) => b.overall.precision_catalogue.n - b.overall.precision_catalogue.k;
  const found = (b: Trial["today"]) => `${b.overall.recall.k} of ${b.overall.recall.n}`;
  const chance = (v: number) => (v < 0.05 ? "unlikely to be chance" : "may be chance");
  const changed = [
    t.incidents_gained.length && `gained ${t.incidents_gained.join(", ")}`,
    t.incidents_lost.length && `lost ${t.incidents_lost.join(", ")}`,
  ]
    .filter(Boolean)
    .join("; ");
  const rows = [
    [
      "Alerts",
      t.today.alerts.length,
      t.proposed.alerts.length,
      `${t.gone.length} gone, ${t.new.length} new`,
      "",
      "",
    ],
    [
      "False alarms",
      wolves(t.today),
      wolves(t.proposed),
      signed(p.false_alarms, 0),
      `${signed(p.false_alarms_low, 0)} to ${signed(p.false_alarms_high, 0)}`,
      p.false_alarms ? chance(p.false_alarms_p) : "",
    ],
    [
      "Precision",
      share(t.today.overall.precision_catalogue.estimate),
      share(t.proposed.overall.precision_catalogue.estimate),
      p.precision === null ? "–" : signed(p.precision, 2),
      between(p.precision_low, p.precision_high),
      "",
    ],
    [
      "Recall",
      share(t.today.overall.recall.estimate),
      share(t.proposed.overall.recall.estimate),
      p.recall === null ? "–" : signed(p.recall, 2),
      between(p.recall_low, p.recall_high),
      p.recall ? chance(p.recall_p) : "",
    ],
    ["Incidents found", found(t.today), found(t.proposed), changed || "the same", "", ""],
  ] as const;
  return (
    <>
      <table className="mt-4 w-[900px] border-collapse border-t border-ink">
        <thead>
          <tr className="border-b border-rule">
            <td className="py-1" />
            <th className="num">today</th>
            <th className="num font-bold">proposed</th>
            <th className="pl-8">difference</th>
            <th>95 % interval</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, a, b, d, ci, say]) => (
            <tr key={name} className="h-[30px]">
              <td>{name}</td>
              <td className="num">{a}</td>
              <td className="num font-bold">{b}</td>
              <td className="pl-8">{d}</td>
              <td className="text-ink2">{ci}</td>
              <td className="text-ink2">{say}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="mt-6 grid grid-cols-2 gap-9">
        <Some title="Gone" note="told today, not by the proposal" list={t.gone} zone={zone} />
        <Some title="New" note="told by the proposal alone" list={t.new} zone={zone} />
      </div>
      <p className="mt-3 text-ink2">
        {count(t.stays, "alert")} told by both, on {t.today.series} series.
      </p>
    </>
  );
}

function Some({
  title,
  note,
  list,
  zone,
}: {
  title: string;
  note: string;
  list: BacktestAlert[];
  zone: string;
}) {
  return (
    <Section title={title} note={note} right={count(list.length, "alert")}>
      {list.length === 0 && <p className="mt-2 text-ink2">None.</p>}
      {list.slice(0, 8).map((a, i) => (
        <Drawn key={i} a={a} zone={zone} />
      ))}
      {list.length > 8 && <p className="mt-2 text-ink2">and {count(list.length - 8, "more", "more")}</p>}
    </Section>
  );
}

function Drawn({ a, zone }: { a: BacktestAlert; zone: string }) {
  const now = useNow();
  const [box, width] = useWidth<HTMLDivElement>();
  const chart = useChart(
    a.series_id,
    new Date(Date.parse(a.since) - 2 * day),
    new Date(Math.min(Date.parse(a.closed_at ?? a.raised_at) + 1.5 * day, now)),
  );
  return (
    <div ref={box} className="border-b border-hair py-2" data-drawn>
      <div className="flex items-baseline justify-between gap-3">
        <span className="truncate">
          <Link to={`/monitors/${a.monitor}?series=${a.series_id}`}>{a.monitor}</Link> {a.segment},{" "}
          {time(a.since, zone)}
        </span>
        <Mark
          state={outcome[a.outcome]}
          word={a.outcome === "false" ? "false alarm" : a.incident || a.outcome}
        />
      </div>
      {chart.data ? (
        <SmallChart chart={chart.data} now={now} width={width} height={92} />
      ) : (
        <div className="h-[92px] bg-well" />
      )}
    </div>
  );
}
