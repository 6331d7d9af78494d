import { useState } from "react";
import { Link } from "react-router";
import type { FilterReport, Proposal } from "../../api/client";
import { useChangeFilter, useDecide, useFilter, useProposals, useTune, useTuning } from "../../api/learning";
import { useSteer } from "../../api/setup";
import { Choice } from "../../parts/Controls";
import { Section } from "../../parts/Page";
import { count, number, percent } from "../../parts/words";
import { Button, Refusal } from "../../parts/Form";

/** Proposals that wait for a yes, and the filter: what labels lead to. */
export function Learning() {
  return (
    <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)] gap-9">
      <Proposals />
      <FilterPanel />
    </div>
  );
}

function Proposals() {
  const proposals = useProposals();
  const tune = useTune();
  const tuning = useTuning(tune.data?.task_id);
  const steer = useSteer();
  const task = tuning.data?.task;
  const running = tune.isPending || task?.state === "running";
  const found = tuning.data?.tuning;
  // What a tuning found is a proposal as soon as it ends.
  const [seen, see] = useState<number>();
  if (found && task && seen !== task.id) {
    see(task.id);
    proposals.refetch();
  }
  return (
    <Section
      title="Proposals"
      note="from labels; nothing changes until you say yes"
      right={
        running ? (
          <span role="status">
            searching, {task?.total ? percent(task.done / task.total) : "0 %"}{" "}
            {task && (
              <Button
                look="text"
                className="ml-2"
                onClick={() => steer.mutate({ id: task.id, verb: "cancel" })}
              >
                cancel
              </Button>
            )}
          </span>
        ) : (
          <Button look="text" onClick={() => tune.mutate(undefined)}>
            search for better settings
          </Button>
        )
      }
    >
      <Refusal error={tune.error ?? proposals.error} className="mt-2" />
      {found && (
        <p className="mt-2" data-tuned>
          {found.sentence}
        </p>
      )}
      {proposals.data?.length === 0 && !running && (
        <p className="mt-2 text-ink2">
          {found ? "" : "No proposal waits. "}
          <Link to="/labels">Labels</Link> are what the search learns from.
        </p>
      )}
      {(proposals.data ?? []).map((p) => (
        <One key={p.id} p={p} />
      ))}
      {found && found.passed.some((p) => !p.why.startsWith("learned arrivals")) && (
        <details className="mt-2 text-[13px] text-ink2">
          <summary>
            {count(found.passed.length, "monitor stays as it is", "monitors stay as they are")}
          </summary>
          {found.passed.map((p) => (
            <div key={p.monitor} className="border-b border-hair py-[3px]">
              <Link to={`/monitors/${p.monitor}`}>{p.monitor}</Link>: {p.why}
              {p.stopped.map((s) => (
                <div key={s.changes.join()} className="pl-4">
                  {s.changes.join(", ")} would spare about {number(s.spared, 0)}, and lose{" "}
                  {s.faults.map((f, i) => (
                    <span key={i}>
                      {i > 0 && ", "}
                      {f.alert ? (
                        <Link to={`/alerts/${f.alert}`} title={f.sentence}>
                          alert {f.alert}
                        </Link>
                      ) : (
                        <Link to={`/incidents?find=${f.incident}`}>{f.incident}</Link>
                      )}
                      {f.segment && ` (${f.segment})`}
                    </span>
                  ))}
                </div>
              ))}
            </div>
          ))}
        </details>
      )}
    </Section>
  );
}

export function One({ p }: { p: Proposal }) {
  const decide = useDecide();
  const g = p.gain;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_auto] gap-4 border-b border-hair py-[7px]">
      <div>
        <Link to={`/monitors/${p.monitor}`} className="font-semibold">
          {p.monitor}
        </Link>
        : {g.changes.join(", ")}
        <div className="text-ink2">
          {g.spared < -0.5
            ? `raises about ${count(Math.round(-g.spared), "alert")} more than today's ${g.alerts_before}`
            : `spares about ${number(Math.max(g.spared, 0), 0)} of ${count(g.alerts_before, "alert")}`}
          , loses about {number(g.lost, 1)} faults
          {g.incidents_gained.length > 0 && `, finds ${g.incidents_gained.join(", ")}`}.{" "}
          {g.noise + g.faults === 0
            ? "Nothing is labelled in the time held out."
            : "On time the search had not seen: " +
              (g.noise
                ? `${g.noise_spared} of ${count(g.noise, "known false alarm")} spared ` +
                  `(${percent(g.spared_low)} to ${percent(g.spared_high)})`
                : "no known false alarm") +
              ", " +
              `${g.faults_lost} of ${count(g.faults, "known fault")} lost (at most ` +
              `${percent(g.lost_high)}).`}
        </div>
        <Refusal error={decide.error} />
      </div>
      <div className="flex items-start gap-2">
        <Button
          disabled={decide.isPending}
          onClick={() => decide.mutate({ id: p.id, accept: true })}
          look="primary"
        >
          Accept
        </Button>
        <Button disabled={decide.isPending} onClick={() => decide.mutate({ id: p.id, accept: false })}>
          Reject
        </Button>
      </div>
    </div>
  );
}

const states = [
  ["off", "off"],
  ["shadow", "shadow"],
  ["active", "active"],
] as const;
const limits = [
  ["0.005", "0.5 %"],
  ["0.01", "1 %"],
  ["0.02", "2 %"],
  ["0.05", "5 %"],
] as const;

function FilterPanel() {
  const filter = useFilter();
  const change = useChangeFilter();
  const f = filter.data;
  if (!f)
    return (
      <Section title="Filter">{filter.error && <p className="text-verm">{filter.error.message}</p>}</Section>
    );
  const limit = limits.reduce((best, l) =>
    Math.abs(Number(l[0]) - f.limit) < Math.abs(Number(best[0]) - f.limit) ? l : best,
  )[0];
  return (
    <Section
      title="Filter of false alarms"
      note={
        f.state === "shadow"
          ? "says what it would hold back"
          : f.state === "active"
            ? "holds back what looks like noise"
            : "is off"
      }
      right={
        <Link to={`/alerts?held=${f.state === "active" ? "held" : "shadow"}`}>
          {count(f.held_now, "alert")} in four weeks
        </Link>
      }
    >
      <div className="mt-2 flex items-center gap-5">
        <Choice
          name="Filter"
          value={f.state}
          options={states}
          onChange={(state) => change.mutate({ state })}
        />
        <span className="flex items-center gap-2 text-ink2">
          may lose{" "}
          <Choice
            name="Faults that may be lost"
            value={limit}
            options={limits}
            onChange={(v) => change.mutate({ limit: Number(v) })}
          />
        </span>
      </div>
      <p className="mt-2">{learned(f)}</p>
      <label className="mt-2 flex items-baseline gap-2 text-ink2">
        <input
          type="checkbox"
          checked={f.nightly}
          onChange={(e) => change.mutate({ nightly: e.target.checked })}
          className="accent-[var(--ink)]"
        />
        search for better settings every night; proposals wait for a yes
      </label>
      <Refusal error={change.error} className="mt-2" />
    </Section>
  );
}

function learned(f: FilterReport): string {
  const base =
    f.labels === 0
      ? "Nobody has labelled anything yet: it knows what it shipped with."
      : `Learned from ${count(f.labels, "label")}, ${count(f.faults, "fault")} and ` +
        `${f.noise} ` +
        `noise${f.right >= 0 ? `; of pairs it had not seen it orders ${percent(f.right)} rightly` : ""}.`;
  const c = f.checked;
  const checked =
    c.from === null
      ? "15 labels are needed to check it on later time."
      : `On labels newer than it learned from it would lose ${c.faults_lost} of ` +
        `${count(c.faults, "fault")}${c.lost_high !== null ? ` (at most ${percent(c.lost_high)})` : ""} ` +
        `and hold back ${c.noise_held} of ${c.noise} noise.`;
  return `${base} ${checked}`;
}
