import { useState } from "react";
import { Link } from "react-router";
import { answer, api, type DatasetPage, type Monitor, type Settings } from "../../api/client";
import { useAct } from "../../api/learning";
import { useAlerts, useHour, useMonitors } from "../../api/queries";
import { Choice } from "../../parts/Controls";
import { Sure } from "../../parts/Ask";
import { Button, Refusal } from "../../parts/Form";
import { Mark } from "../../parts/Mark";
import { Section } from "../../parts/Page";
import { count, duration, time } from "../../parts/words";
import { period } from "../../parts/period";

type Measured = NonNullable<DatasetPage["metrics"]>[number];

const day = 86_400;
const rarities = [
  ["month", "a month"],
  ["quarter", "3 months"],
  ["year", "a year"],
] as const;
const seconds = { month: 30 * day, quarter: 91 * day, year: 365 * day };

/** How a metric is watched if nothing else is said, and why so. */
export function proposal(m: Measured): {
  method: Settings["method"];
  direction: "both" | "high";
  why: string;
} {
  const series = m.series.length,
    each = `${count(series, "series", "series")}, every ${period(m.period_seconds)}`;
  if (m.measure === "freshness")
    return {
      method: "arrival",
      direction: "high",
      why: "loads come at times that can be learned; later is wrong",
    };
  if (/null|share|duplicate/.test(m.measure))
    return { method: "seasonal", direction: "high", why: `${each}; more of it is wrong, less is welcome` };
  return { method: "seasonal", direction: "both", why: `${each}; too little and too much are both wrong` };
}

/** The name of the monitor that is proposed for a metric: as the metric's, without its last word rows. */
export const named = (metric: string) => metric.replace(/-rows$/, "-volume");

/**
 * A set of monitors for what was just measured, with one budget for all of them; once they
 * are there, what they would have told in the last weeks.
 */
export function Proposed({ page }: { page: DatasetPage }) {
  const monitors = useMonitors();
  const here = (monitors.data ?? []).filter((m) => m.dataset === page.dataset.name);
  const open = page.metrics.filter(
    (m) => m.series.length > 0 && !here.some((w) => w.metric === m.name) && !m.comparison,
  );
  const [left, leave] = useState<string[]>([]);
  const [rarity, setRarity] = useState<keyof typeof seconds>("year");
  const chosen = open.filter((m) => !left.includes(m.name));
  const budget = seconds[rarity] * Math.max(chosen.length, 1);
  const add = useAct(async () => {
    for (const m of chosen) {
      const p = proposal(m);
      const settings = {
        method: p.method,
        direction: p.direction,
        coverage: 0.99,
        persist: 1,
        of: 1,
        warn_seconds: budget,
        critical_seconds: Math.max(budget, 10 * 365 * day),
        min_effect: 0,
        adopt_after_seconds: 0,
      } satisfies Settings;
      const path = { name: named(m.name) };
      await answer(api.POST("/api/v1/monitors", { body: { name: path.name, metric: m.name, settings } }));
      await answer(api.POST("/api/v1/monitors/{name}/learn", { params: { path, query: { history: true } } }));
    }
  }, ["monitors", "alerts"]);
  if (!monitors.data) return null;
  return (
    <>
      {open.length > 0 && (
        <Section className="mt-5" title="Monitors" note="proposed for what is measured">
          <table className="mt-1 w-full border-collapse">
            <tbody>
              {open.map((m) => (
                <tr key={m.name} className="h-[27px]">
                  <td>
                    <label className="flex items-baseline gap-2">
                      <input
                        type="checkbox"
                        className="accent-ink"
                        checked={chosen.includes(m)}
                        onChange={() =>
                          leave(left.includes(m.name) ? left.filter((l) => l !== m.name) : [...left, m.name])
                        }
                      />
                      {named(m.name)}
                    </label>
                  </td>
                  <td className="text-ink2">{proposal(m).why}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <div className="mt-2 flex flex-wrap items-center gap-3">
            <span>By chance, all of them together ring once in</span>
            <Choice name="All of them together" value={rarity} options={rarities} onChange={setRarity} />
            <span className="text-ink2">(each once in {duration(budget)})</span>
          </div>
          <Button
            look="primary"
            className="mt-3"
            disabled={chosen.length === 0 || add.isPending}
            onClick={() => add.mutate(undefined)}
          >
            {add.isPending ? "fitting them to the past" : `Add ${count(chosen.length, "monitor")}`}
          </Button>
          <Refusal error={add.error} className="mt-2" />
        </Section>
      )}
      {here.length > 0 && (
        <Section
          className="mt-5"
          title="What they would have told"
          note="in the last four weeks, had they been there; nobody is told of it now"
        >
          {here.map((m) => (
            <Told key={m.name} monitor={m} />
          ))}
        </Section>
      )}
    </>
  );
}

/** What one of them would have told, and a way to do without it. */
function Told({ monitor: m }: { monitor: Monitor }) {
  const hour = useHour();
  const told = useAlerts({
    monitor: m.name,
    from: new Date(hour - 28 * day * 1000).toISOString(),
    limit: 50,
  });
  const drop = useAct(
    () => answer(api.DELETE("/api/v1/monitors/{name}", { params: { path: { name: m.name } } })),
    ["monitors", "alerts"],
  );
  const list = told.data?.alerts ?? [];
  return (
    <div
      className="border-b border-hair py-[6px]"
      data-told={m.learned_at && told.data ? list.length : undefined}
    >
      <div className="flex items-baseline justify-between gap-4">
        <span>
          <Link to={`/monitors/${m.name}`}>{m.name}</Link>{" "}
          <span className="text-ink2">
            {!m.learned_at
              ? "is being fitted to the past"
              : list.length === 0
                ? "would have told nothing"
                : `would have told ${count(list.length, "alert")}`}
          </span>
        </span>
        <Sure
          asks={`Remove ${m.name}?`}
          says="It goes with its alerts; what it measured stays."
          does="Remove it"
          act={() => drop.mutate(undefined)}
        >
          do without it
        </Sure>
      </div>
      {list.slice(0, 5).map((a) => (
        <div key={a.id} className="flex gap-3">
          <Mark state={a.severity as "warning"} />
          <Link to={`/alerts/${a.id}`}>{a.sentence}</Link>
          <span className="whitespace-nowrap text-ink2">{time(a.raised_at, a.zone)}</span>
        </div>
      ))}
      <Refusal error={drop.error} />
    </div>
  );
}
