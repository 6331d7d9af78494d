import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Health } from "../api/client";
import { useAlerts, useHealth, useMe, useNow, useScorecard } from "../api/queries";
import { Brush } from "../chart/Brush";
import { useWidth } from "../chart/width";
import { Choice } from "../parts/Controls";
import { Page, Reading, Trouble } from "../parts/Page";
import { time, word } from "../parts/words";
import { Button } from "../parts/Form";
import { Said } from "../parts/Term";
import { Filter, useFound } from "../parts/Table";
import { useAddress } from "../parts/address";
import { Rows, scoresOf } from "./datasets/Rows";

/** Datasets without a load come first, then the furthest from expected. */
const byDeviation = (a: Health, b: Health) => rank(b) - rank(a);
const rank = (h: Health) =>
  (h.load?.overdue ? 1000 : 0) + (h.worst ? 100 : 0) + Math.abs(h.deviation_24h ?? 0);

function sentence(list: Health[]): string {
  if (list.length === 0) return "No dataset is watched yet.";
  const calm = list.filter((h) => !h.worst && h.state !== "failed").length;
  const late = list.filter((h) => h.load?.overdue).length;
  const failed = list.filter((h) => h.state === "failed").length;
  const more = [
    late && `${word(late).toLowerCase()} ${late === 1 ? "loader has" : "loaders have"} stopped`,
    failed && `${word(failed).toLowerCase()} cannot be read`,
  ].filter(Boolean);
  return (
    `${word(calm)} of ${word(list.length).toLowerCase()} datasets arrive as ` +
    `expected${more.length ? `; ${more.join(" and ")}` : ""}.`
  );
}

const most = (of: (h: Health) => number | null) => (a: Health, b: Health) => (of(b) ?? -1) - (of(a) ?? -1);
const orders = {
  deviation: byDeviation,
  day: most((h) => h.rows_24h),
  week: most((h) => h.rows_7d),
  month: most((h) => h.rows_30d),
  age: most((h) => h.age_seconds),
};

function Head({
  name,
  by,
  sort,
  onSort,
}: {
  name: string;
  by: keyof typeof orders;
  sort: string;
  onSort: (by: keyof typeof orders) => void;
}) {
  return (
    <th className="num">
      <button className={sort === by ? "font-bold text-ink" : ""} onClick={() => onSort(by)}>
        {name}
        {sort === by && " ▾"}
      </button>
    </th>
  );
}

const hour = 3_600_000,
  day = 24 * hour;

export function DatasetsPage() {
  const health = useHealth();
  const me = useMe();
  const score = useScorecard();
  const [box, width] = useWidth<HTMLDivElement>();
  const [unit, setUnit] = useState<"rows" | "bytes">("rows");
  const [search, put] = useAddress();
  const asked = search.get("sort") ?? "";
  const sort = asked in orders ? (asked as keyof typeof orders) : "deviation";
  const setSort = (by: keyof typeof orders) => put({ sort: by === "deviation" ? "" : by });
  const now = useNow();
  const end = Math.ceil(now / hour) * hour,
    start = end - 7 * day;
  const [a, b] = [search.get("from"), search.get("to")];
  const picked = useMemo(() => (a && b ? ([Date.parse(a), Date.parse(b)] as const) : undefined), [a, b]);
  const alerts = useAlerts({ from: new Date(start).toISOString(), limit: 500 });
  const told = alerts.data?.alerts ?? [];
  const during = (dataset: string) =>
    told.filter(
      (a) =>
        a.dataset === dataset &&
        (!picked || (Date.parse(a.since) < picked[1] && (!a.ended_at || Date.parse(a.ended_at) > picked[0]))),
    );
  const sorted = useMemo(() => [...(health.data ?? [])].sort(orders[sort]), [health.data, sort]);
  const scores = useMemo(() => scoresOf(score.data?.monitors ?? []), [score.data]);
  const list = useFound(
    sorted,
    (h) => `${h.dataset.name} ${h.dataset.owner} ${h.state} ${h.dataset.tags.join(" ")}`,
  );
  const zone = health.data?.[0]?.dataset.zone ?? "UTC";
  const raised = new Array<number>(7 * 24).fill(0);
  for (const a of told) raised[Math.floor((Date.parse(a.raised_at) - start) / hour)]++;
  const pick = (p?: [number, number]) =>
    put({ from: p ? new Date(p[0]).toISOString() : "", to: p ? new Date(p[1]).toISOString() : "" });
  const stretch = picked && `${time(picked[0], zone)} to ${time(picked[1], zone)}`;
  return (
    <Page
      place={`Datasets, all ${health.data?.length ?? ""}`}
      sentence={health.data ? sentence(health.data) : ""}
    >
      <Trouble what="Datasets" error={health.error} />
      {health.isPending && <Reading what="datasets" />}
      {health.data && health.data.length === 0 && (
        <p className="mt-3 text-ink2">
          Nothing is measured yet: <Link to="/setup">set up a source</Link>.
        </p>
      )}
      <div className="mt-3 flex flex-wrap items-baseline gap-x-5 gap-y-2 text-[13px] text-ink2">
        <Filter by="name, owner, state, tag" />
        {!picked && (
          <Choice
            name="Volume by"
            value={unit}
            options={[
              ["rows", "rows"],
              ["bytes", "bytes"],
            ]}
            onChange={setUnit}
          />
        )}
        {stretch ? (
          <span>
            <b className="text-ink">{stretch}</b>: rows, difference and alerts are of this stretch.{" "}
            <Button look="text" onClick={() => pick()}>
              all 7 days
            </Button>
          </span>
        ) : (
          <span>Drag over the days to narrow everything to a stretch; bars are alerts raised.</span>
        )}
        <Link className="ml-auto" to="/tags">
          by tag
        </Link>
      </div>
      <div ref={box} className="mt-2">
        {width > 0 && health.data && (
          <Brush
            from={start}
            to={end}
            heights={raised}
            period={hour}
            zone={zone}
            picked={picked}
            onPick={pick}
            width={width}
            label="Stretch of the last seven days"
          />
        )}
      </div>
      <table className="mt-2 w-full border-collapse border-t border-ink">
        <thead>
          <tr className="border-b border-rule align-bottom">
            <th className="py-1">dataset</th>
            <th>against its band, 7 days</th>
            {picked ? (
              <>
                <th className="num">rows</th>
                <th className="num pr-6">against expected</th>
              </>
            ) : (
              <>
                <Head name={`${unit}, 24 h`} by="day" sort={sort} onSort={setSort} />
                {unit === "rows" && (
                  <th className="pl-2 text-center">
                    lowest–highest
                    <br />
                    <span className="font-normal text-ink2">of 30 days</span>
                  </th>
                )}
                <Head name="7 d" by="week" sort={sort} onSort={setSort} />
                <Head name="30 d" by="month" sort={sort} onSort={setSort} />
                {unit === "bytes" && <th className="num">per row</th>}
              </>
            )}
            <th className="w-[92px] pl-4 text-center whitespace-nowrap">
              <Said is="deviation">
                <button
                  className={sort === "deviation" ? "font-bold text-ink" : ""}
                  onClick={() => setSort("deviation")}
                >
                  deviation, 24 h{sort === "deviation" && " ▾"}
                </button>
              </Said>
              <br />
              <span className="font-normal text-ink2">−1 0 +1</span>
            </th>
            <td />
            <Head name="newest" by="age" sort={sort} onSort={setSort} />
            <th className="num pr-5">next by</th>
            <th>loader</th>
            <th>{picked ? "alerts" : "open alerts"}</th>
            <th>
              precision
              <br />
              <span className="flex w-[60px] justify-between">
                <i>0</i>
                <i>1</i>
              </span>
            </th>
            <td />
          </tr>
        </thead>
        <tbody>
          <Rows list={list} unit={unit} picked={picked} during={during} scores={scores} now={me.data?.now} />
        </tbody>
      </table>
      {health.data && health.data.length > 0 && list.length === 0 && (
        <p className="mt-3 text-ink2">Nothing fits the filter.</p>
      )}
    </Page>
  );
}
