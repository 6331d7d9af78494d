import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { DatasetPage as Page_ } from "../api/client";
import { type Fill, useAlerts, useChart, useDataset, useNow } from "../api/queries";
import { SmallChart } from "../chart/Small";
import { useWidth } from "../chart/width";
import { Mark, type State, stateOf } from "../parts/Mark";
import { Noted } from "./dataset/Noted";
import { StandOut } from "./dataset/StandOut";
import { Surroundings } from "./dataset/Surroundings";
import { Page, Reading, Section, Trouble } from "../parts/Page";
import { Gaps, useFill } from "../parts/Gaps";
import { Tags } from "../parts/Tags";
import { ago, city, count, duration, number, rarity, signed, time } from "../parts/words";
import { Option, Select } from "../parts/Select";
import { cx } from "../parts/cx";
import { period, wider } from "../parts/period";

const hour = 3_600_000,
  day = 24 * hour;
const spans = { "3 days": 3, "7 days": 7, "28 days": 28 } as const;

/** Volume first, then how fresh, then the rest. */
const order = (measure: string) => ["rows", "freshness"].indexOf(measure) + 1 || 3;

function sentence(p: Page_, now: number): string {
  const h = p.health;
  const late = h.load?.overdue
    ? `has had no load for ${duration(h.age_seconds ?? 0)}`
    : h.newest
      ? `${h.load ? "was loaded" : "was last heard of"} ${ago((now - Date.parse(h.newest)) / 1000)}`
      : "is watched";
  const rows =
    h.deviation_24h !== null && h.expected_24h
      ? `, with ${number(h.rows_24h)} rows in 24 hours where ${number(h.expected_24h)} were expected`
      : "";
  return `${p.dataset.name} ${late}${rows}.`;
}

/** The other figures of a comparison, each a metric with its series. */
function Figures({ of }: { of: NonNullable<Page_["metrics"]> }) {
  const go = useNavigate();
  return (
    <Select aria-label="figure" value="" onChange={(v) => go(`/series/${v}`)}>
      <Option value="">{of.length} more</Option>
      {of.map((m) => (
        <optgroup key={m.id} label={m.unit}>
          {m.series.map((s) => (
            <Option key={s.id} value={s.id}>
              {m.unit}
              {s.segment && `, ${s.segment}`}
            </Option>
          ))}
        </optgroup>
      ))}
    </Select>
  );
}

export function DatasetPage() {
  const name = useParams().name!;
  const page = useDataset(name);
  const alerts = useAlerts({ dataset: name, limit: 12 });
  const [search, setSearch] = useSearchParams();
  const [fill, setFill] = useFill();
  const span = (search.get("span") ?? "7 days") as keyof typeof spans;
  const now = useNow();
  const place = (
    <>
      <Link to="/datasets">Datasets</Link>, <code>{name}</code>
    </>
  );
  if (page.error)
    return (
      <Page place={place} sentence={`There is no dataset ${name}.`}>
        <Trouble what="The dataset" error={page.error} />
      </Page>
    );
  if (!page.data)
    return (
      <Page place={place} sentence="">
        <Reading what="the dataset" />
      </Page>
    );
  const p = page.data;
  const end = Math.ceil(now / hour) * hour;
  return (
    <Page
      place={place}
      sentence={sentence(p, now)}
      after={
        `${p.dataset.owner || "No owner"}; times in ${city(p.dataset.zone)}; read from ` +
        p.dataset.source +
        (p.health.deviation_24h !== null ? `; deviation ${signed(p.health.deviation_24h)} half-widths` : "") +
        (p.health.load ? `; next load by ${time(p.health.load.deadline, p.dataset.zone)}` : "") +
        "."
      }
    >
      <div className="mt-2">
        <Tags kind="datasets" name={name} tags={p.dataset.tags} />
      </div>
      <div className="mt-3 flex gap-4 text-[13px]">
        {Object.keys(spans).map((s) => (
          <button
            key={s}
            aria-pressed={s === span}
            className={s === span ? "font-bold" : "underline decoration-pewter-line underline-offset-3"}
            onClick={() =>
              setSearch((q) => {
                q.set("span", s);
                return q;
              })
            }
          >
            {s}
          </button>
        ))}
        <span className="ml-auto">
          <Gaps fill={fill} onFill={setFill} />
        </span>
      </div>
      {p.metrics
        .filter((m) => m.comparison === "" || m.measure === "drift")
        .sort((a, b) => order(a.measure) - order(b.measure))
        .map((m) => (
          <Section
            key={m.id}
            className="mt-4"
            title={m.comparison ? `drift, ${m.unit}` : m.unit || m.measure.replaceAll("_", " ")}
            note={
              m.comparison ? (
                <>
                  by feature, of comparison{" "}
                  <Link to={`/drift/${encodeURIComponent(m.comparison)}`}>{m.comparison}</Link>; all its
                  figures:{" "}
                  <Figures of={p.metrics.filter((f) => f.comparison === m.comparison && f.id !== m.id)} />
                </>
              ) : (
                <>
                  {m.measure.replaceAll("_", " ")} {m.column && <code>{m.column}</code>} every{" "}
                  {period(m.period_seconds)}
                  {m.segment_by.length > 0 && `, by ${m.segment_by.join(", ")}`}
                </>
              )
            }
            right={
              m.state === "failed" ? (
                <span className="text-verm">cannot be read: {m.message}</span>
              ) : m.collected_to ? (
                `read up to ${time(m.collected_to, m.zone, "short")}`
              ) : m.comparison ? (
                ""
              ) : (
                "pushed"
              )
            }
          >
            <Multiples
              series={m.series.map((s) => s.id)}
              from={new Date(end - spans[span] * day * wider(m.period_seconds, 4))}
              to={new Date(end + (m.period_seconds >= 86400 ? 0 : 4 * hour))}
              now={now}
              names={m.series.map((s) => s.segment)}
              fill={fill}
            />
          </Section>
        ))}
      <Surroundings
        name={name}
        source={p.dataset.source}
        zone={p.dataset.zone}
        files={p.dataset.pattern !== ""}
      />
      <Noted name={name} zone={p.dataset.zone} />
      {p.metrics.some((m) => m.time_column) && (
        <Section
          className="mt-5"
          title="What stands out"
          note="rows that lie far off by a column with numbers"
        >
          <StandOut dataset={name} />
        </Section>
      )}
      <Section
        className="mt-5"
        title="Alerts"
        note={count(p.health.open_alerts, "open", "open")}
        right={<Link to={`/alerts?dataset=${name}`}>all of this dataset</Link>}
      >
        {(alerts.data?.alerts ?? []).map((a) => (
          <div
            key={a.id}
            className={cx(
              "grid grid-cols-[120px_minmax(0,1fr)_180px_200px_110px] gap-4 border-b",
              "border-hair py-[5px]",
            )}
          >
            <Mark state={a.closed_at ? (a.severity as State) : stateOf({ ...a, verdict: "" })} />
            <Link to={`/alerts/${a.id}`}>{a.sentence}</Link>
            <span>{time(a.raised_at, a.zone)}</span>
            <span className="text-ink2">{a.series_id === 0 ? "" : rarity(a.return_period_seconds)}</span>
            {a.verdict ? <Mark state={a.verdict as State} /> : <span className="text-ink3">unlabelled</span>}
          </div>
        ))}
        {alerts.data?.alerts!.length === 0 && <p className="mt-2 text-ink2">No alert so far.</p>}
      </Section>
    </Page>
  );
}

/** One small chart per segment, all of one width. */
function Multiples({
  series,
  names,
  from,
  to,
  now,
  fill,
}: {
  series: number[];
  names: string[];
  from: Date;
  to: Date;
  now: number;
  fill: Fill;
}) {
  const [box, width] = useWidth<HTMLDivElement>();
  const columns = series.length === 1 ? 1 : Math.max(Math.floor(width / 400), 1);
  const each = Math.floor((width - (columns - 1) * 30) / columns);
  return (
    <div
      ref={box}
      className="mt-2 grid gap-x-[30px] gap-y-3"
      style={{ gridTemplateColumns: `repeat(${columns}, ${each}px)` }}
    >
      {series.map((id, i) => (
        <One key={id} id={id} name={names[i]} from={from} to={to} now={now} width={each} fill={fill} />
      ))}
      {series.length === 0 && (
        <p className="text-ink2">
          Nothing measured yet. The first collection comes by itself; the past:{" "}
          <code>tinbell metric backfill</code>
        </p>
      )}
    </div>
  );
}

function One({
  id,
  name,
  from,
  to,
  now,
  width,
  fill,
}: {
  id: number;
  name: string;
  from: Date;
  to: Date;
  now: number;
  width: number;
  fill: Fill;
}) {
  const chart = useChart(id, from, to, fill);
  const open = chart.data?.alerts?.some((a) => !a.closed_at);
  return (
    <figure>
      <figcaption className="text-[13px]">
        <Link to={`/series/${id}`} className={open ? "font-bold text-verm" : "text-ink2"}>
          {name || "study this series"}
        </Link>
      </figcaption>
      {chart.data ? (
        <SmallChart chart={chart.data} now={now} width={width} height={96} />
      ) : (
        <div className="h-[96px] bg-well" />
      )}
    </figure>
  );
}
