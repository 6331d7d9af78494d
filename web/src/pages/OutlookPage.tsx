import { Link, useSearchParams } from "react-router";
import type { Forecast } from "../api/client";
import { useMetrics } from "../api/setup";
import { useOutlook } from "../api/queries";
import { Ahead } from "../chart/Ahead";
import { Choice, Figures } from "../parts/Controls";
import { Download } from "../parts/Download";
import { type Column, Table } from "../parts/Table";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { between } from "../parts/period";
import { count, number, odds, percent, signed, time, value, word } from "../parts/words";

const relative = (kind: string) => kind === "count" || kind === "duration";
const off = (f: Forecast) =>
  f.error === null ? "–" : relative(f.kind) ? percent(f.error) : value(f.error, f.kind);
const called = (f: Forecast) => `${f.metric}${f.series.segment ? ` at ${f.series.segment}` : ""}`;

function sentence(list: Forecast[] | undefined, days: number, limit: string): string {
  if (!list) return "";
  if (list.length === 0) return "No series is old enough to be forecast.";
  if (list.length === 1) return list[0].sentence;
  if (limit) {
    const reach = list.filter((f) => f.reaches_at);
    return reach.length === 0
      ? `None of ${word(list.length).toLowerCase()} series reaches ` +
          `${number(Number(limit))} within ${days} days.`
      : `${word(reach.length)} of ${word(list.length).toLowerCase()} series ` +
          `${reach.length === 1 ? "reaches" : "reach"} ${number(Number(limit))} within ` +
          `${days} days.`;
  }
  const grow = list.filter((f) => (f.growth ?? 0) >= 0.02).length,
    shrink = list.filter((f) => (f.growth ?? 0) <= -0.02).length;
  return (
    `Of ${word(list.length).toLowerCase()} series ` +
    `${grow === 0 ? "none grows" : `${word(grow).toLowerCase()} ${grow === 1 ? "grows" : "grow"}`} ` +
    "and " +
    (shrink === 0 ? "none shrinks" : `${word(shrink).toLowerCase()} ${shrink === 1 ? "shrinks" : "shrink"}`) +
    " " +
    `by 2 % or more in ${days} days.`
  );
}

/**
 * What series do in days to come: growth, totals, and when a limit is reached. All of it is in the
 * address.
 */
export function OutlookPage() {
  const [search, setSearch] = useSearchParams();
  const metrics = useMetrics();
  const known = metrics.data ?? [];
  const first = known
    .filter((m) => m.measure === "rows" && !m.comparison)
    .slice(0, 6)
    .map((m) => m.name);
  const named = search.getAll("metric");
  const asked = named.length > 0 ? named : first;
  const segments = search.get("segments") === "each";
  const days = Number(search.get("days") ?? 60),
    limit = search.get("limit") ?? "",
    probability = Number(search.get("probability") ?? 0.8);
  const counts = asked.every((name) => known.find((m) => m.name === name)?.kind === "count");
  const whole = counts && !segments;
  const set = (change: (s: URLSearchParams) => void) =>
    setSearch(
      (s) => {
        change(s);
        return s;
      },
      { replace: true },
    );
  const put = (name: string, v: string) => set((s) => (v ? s.set(name, v) : s.delete(name)));
  const q = { metric: asked, whole: whole || undefined, days, limit: limit || undefined, probability };
  const outlook = useOutlook(q);
  const list = outlook.data ?? undefined;
  const long = (list ?? []).some((f) => between(f.at) > 86_400);
  const toggle = (name: string) =>
    set((s) => {
      const now = asked.includes(name) ? asked.filter((m) => m !== name) : [...asked, name];
      s.delete("metric");
      now.forEach((m) => s.append("metric", m));
    });
  const datasets = [
    ...new Set(known.filter((m) => !m.comparison && m.measure !== "freshness").map((m) => m.dataset)),
  ];
  return (
    <Page
      place={
        <>
          Outlook, and beside it <Link to="/consistency">consistency</Link>
        </>
      }
      sentence={
        metrics.data?.length === 0
          ? "Nothing is measured yet: there is nothing to forecast."
          : sentence(list, days, limit)
      }
      after={
        `Local days${long ? ", of longer periods those" : ""}, known faults and planned stretches left ` +
        "out; the interval comes from the forecasts that would have been made before, and nine in " +
        "ten lie in it."
      }
    >
      <div className="mt-3 grid max-lg:grid-cols-1 grid-cols-[240px_minmax(0,1fr)] gap-9">
        <div className="grid content-start gap-4 text-[14px]">
          <Section title="Metrics" right={count(asked.length, "chosen", "chosen")}>
            {datasets.map((d) => (
              <div key={d} className="mt-2">
                <code className="text-[13px] text-ink2">{d}</code>
                {known
                  .filter((m) => m.dataset === d && !m.comparison && m.measure !== "freshness")
                  .map((m) => (
                    <label key={m.name} className="flex items-baseline gap-2">
                      <input
                        type="checkbox"
                        checked={asked.includes(m.name)}
                        onChange={() => toggle(m.name)}
                      />
                      <span className="break-all">{m.name}</span>
                    </label>
                  ))}
              </div>
            ))}
          </Section>
        </div>
        <div>
          <div className="flex flex-wrap items-center gap-x-5 gap-y-2 text-[13px]">
            <Choice
              name="Days ahead"
              value={String(days)}
              options={[
                ["30", "30 d"],
                ["60", "60 d"],
                ["180", "180 d"],
              ]}
              onChange={(v) => put("days", v)}
            />
            <Choice
              name="Segments"
              value={whole ? "whole" : "each"}
              options={[
                ["whole", "together"],
                ["each", "each segment"],
              ]}
              onChange={(v) => put("segments", v === "each" ? "each" : "")}
            />
            <Figures
              name="Limit"
              width={90}
              value={limit === "" ? undefined : Number(limit)}
              onChange={(v) => put("limit", v === undefined ? "" : String(v))}
              after={`a ${long ? "period" : "day"}, reached with`}
            />
            <Figures
              name="Probability"
              width={64}
              min={0.01}
              step={0.05}
              value={probability}
              onChange={(v) => put("probability", v && v < 1 ? String(v) : "")}
            />
            {asked.length === 1 && (
              <Download
                name="The days"
                path="/forecasts/export"
                query={{
                  metric: asked[0],
                  whole: whole ? "true" : undefined,
                  days: String(days),
                  limit: limit || undefined,
                }}
              />
            )}
          </div>
          {!counts && asked.length > 0 && (
            <p className="mt-2 text-[13px] text-ink2">
              Shares, values and durations cannot be summed over segments: each is shown by itself.
            </p>
          )}
          {asked.length === 0 && known.length > 0 && <p className="mt-4 text-ink2">Choose a metric.</p>}
          {outlook.error ? (
            <p role="alert" className="mt-3 text-verm">
              {outlook.error.message}
            </p>
          ) : (
            outlook.isPending && asked.length > 0 && <Reading what="the days to come" />
          )}
          <Trouble what="Metrics" error={metrics.error} />
          {list && list.length > 1 && (
            <div data-outlook>
              <Table name="series" className="mt-3" columns={columns(limit, long)} rows={list} id={called} />
            </div>
          )}
          <div className={`mt-4 grid gap-x-9 gap-y-5 ${list && list.length > 1 ? "grid-cols-2" : ""}`}>
            {(list ?? []).slice(0, 20).map((f) => (
              <Section
                key={called(f)}
                title={called(f)}
                note={
                  "model: " +
                  f.model +
                  (f.error === null ? "" : `, off by ${off(f)} on average, ${f.error_at_days} days ahead`)
                }
                right={f.series.id > 0 && <Link to={`/series/${f.series.id}`}>its page</Link>}
              >
                <Ahead f={f} kind={f.kind} height={list!.length > 1 ? 170 : 320} />
                {list!.length > 1 && <p className="mt-1 text-[13px] text-ink2">{f.sentence}</p>}
              </Section>
            ))}
          </div>
        </div>
      </div>
    </Page>
  );
}

const end = (list: number[]) => list[list.length - 1];

const columns = (limit: string, long: boolean): Column<Forecast>[] => [
  { id: "series", head: "series", fixed: true, by: called, cell: called },
  {
    id: "then",
    head: long ? "a period by then" : "a day by then",
    num: true,
    by: (f) => end(f.expected),
    cell: (f) => value(end(f.expected), f.kind),
  },
  {
    id: "interval",
    head: "90 % interval",
    num: true,
    className: "text-ink2",
    cell: (f) => `${value(end(f.low), f.kind)} to ${value(end(f.high), f.kind)}`,
  },
  {
    id: "growth",
    head: "growth",
    num: true,
    by: (f) => f.growth,
    cell: (f) => (f.growth === null ? "–" : `${signed(100 * f.growth)} %`),
  },
  {
    id: "together",
    head: "together",
    num: true,
    by: (f) => end(f.total),
    cell: (f) => (f.total.length > 0 ? number(end(f.total)) : "–"),
  },
  ...(limit
    ? [
        {
          id: "reaches",
          head: `reaches ${number(Number(limit))}`,
          num: true,
          by: (f: Forecast) => f.reaches_at,
          cell: (f: Forecast) =>
            f.reaches_at ? (
              time(f.reaches_at, f.zone, "day")
            ) : (
              <span className="text-ink3">not by then ({odds(end(f.chance))})</span>
            ),
        },
      ]
    : []),
  { id: "off", head: "off before", num: true, className: "text-ink2", by: (f) => f.error, cell: off },
];
