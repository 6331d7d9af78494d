import { scaleLinear, scaleLog } from "d3-scale";
import { Link, useSearchParams } from "react-router";
import type { Sheet } from "../api/client";
import { type By, useSheet } from "../api/queries";
import { useWidth } from "../chart/width";
import { Choice, Figures } from "../parts/Controls";
import { Page, Reading } from "../parts/Page";
import { count, percent, signed, value } from "../parts/words";
import { Button } from "../parts/Form";
import { type Column, Table } from "../parts/Table";

type Row = NonNullable<Sheet["series"]>[number];

const called = (b: Row) => `${b.metric}${b.segment ? ` at ${b.segment}` : ""}`;
const outside = (b: Row) => b.off > 1;
const change = (v: number | null, kind: string) =>
  v === null
    ? "–"
    : kind === "count" || kind === "duration"
      ? `${signed(100 * v, Math.abs(v) >= 0.1 ? 0 : 1)} %`
      : `${v < 0 ? "−" : "+"}${value(Math.abs(v), kind)}`;
const dayBefore = (date: string) => new Date(Date.parse(date) - 86_400_000).toISOString().slice(0, 10);
const dayAfter = (date: string) => new Date(Date.parse(date) + 86_400_000).toISOString().slice(0, 10);

/** How a week, month or year of all series lies beside those before. */
export function ConsistencyPage() {
  const [search, setSearch] = useSearchParams();
  const by = (search.get("by") ?? "week") as By,
    day = search.get("day") ?? undefined,
    back = Number(search.get("back") ?? (by === "week" ? 8 : by === "month" ? 6 : 3));
  const tolerance = Number(search.get("tolerance") ?? 0.1),
    dataset = search.get("dataset") ?? undefined,
    tag = search.get("tag") ?? undefined;
  const put = (changes: Record<string, string | undefined>) =>
    setSearch(
      (s) => {
        Object.entries(changes).forEach(([k, v]) => (v ? s.set(k, v) : s.delete(k)));
        return s;
      },
      { replace: true },
    );
  const sheet = useSheet({ by, day, back, tolerance, dataset, tag });
  const s = sheet.data;
  const rows = s?.series ?? [];
  const years = rows.some((b) => b.year_before !== null);
  return (
    <Page
      place={
        <>
          Consistency
          {dataset && (
            <>
              {" "}
              of{" "}
              <Link to={`/datasets/${dataset}`}>
                <code>{dataset}</code>
              </Link>
            </>
          )}
          {tag && (
            <>
              {" "}
              of what is tagged <Link to={`/tags/${tag}`}>{tag}</Link>
            </>
          )}
          , and beside it the <Link to="/outlook">outlook</Link>
        </>
      }
      sentence={s?.sentence ?? ""}
      after={
        "Each series against what its own weekdays had before, known faults and planned " +
        "stretches left out of those. It lies outside where it strays farther than the " +
        "tolerance, and farther than it does by itself once in a hundred."
      }
    >
      <div className="mt-3 flex flex-wrap items-center gap-x-5 gap-y-2 text-[13px]">
        <Choice
          name="Span"
          value={by}
          options={[
            ["week", "week"],
            ["month", "month"],
            ["year", "year"],
          ]}
          onChange={(v) => put({ by: v, back: undefined, day: undefined })}
        />
        {s?.from && (
          <span className="whitespace-nowrap">
            <Button onClick={() => put({ day: dayBefore(s.from) })}>◂ earlier</Button>
            <span className="mx-2">{s.name}</span>
            <Button onClick={() => put({ day: dayAfter(s.to) })}>later ▸</Button>
          </span>
        )}
        <Figures
          name="Spans before"
          min={2}
          value={back}
          onChange={(v) => put({ back: v && v >= 2 && v <= 60 ? String(v) : undefined })}
          after={`${by}s before`}
        />
        <Figures
          name="Tolerance"
          value={Math.round(1000 * tolerance) / 10}
          onChange={(v) => put({ tolerance: v === undefined ? undefined : String(v / 100) })}
          after="% tolerated"
        />
      </div>
      {sheet.error ? (
        <p role="alert" className="mt-3 text-verm">
          {sheet.error.message}
        </p>
      ) : (
        sheet.isPending && <Reading what="the series" />
      )}
      {rows.length > 0 && (
        <div className="mt-3 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_minmax(0,1.5fr)] gap-9">
          <div className="border-t border-ink pt-2">
            <Scatter rows={rows} tolerance={tolerance} />
            <p className="mt-1 text-[13px] text-ink2">
              Across: what is usual a day, on a scale of tens. Up: what came, as a share of that. Grey: the
              tolerance; a stroke: what such a series strays by itself.
              {rows.some((b) => b.verdict === "too little") &&
                " " +
                  count(rows.filter((b) => b.verdict === "too little").length, "series has", "series have") +
                  " " +
                  "too few days to say."}
            </p>
          </div>
          <div className="self-start" data-consistency>
            <Table
              columns={columns(years)}
              rows={rows}
              id={(b) => b.series_id}
              words={(b) => `${called(b)} ${b.verdict}`}
            />
          </div>
        </div>
      )}
      {s && s.skipped > 0 && (
        <p className="mt-2 text-ink2">
          {s.skipped} more series are not on this sheet: narrow it to a dataset or a tag.
        </p>
      )}
    </Page>
  );
}

const columns = (years: boolean): Column<Row>[] => [
  {
    id: "series",
    head: "series",
    fixed: true,
    by: called,
    cell: (b) => (
      <Link className={outside(b) ? "font-[650]" : ""} to={`/series/${b.series_id}`}>
        {called(b)}
      </Link>
    ),
  },
  { id: "now", head: "a day", num: true, by: (b) => b.now, cell: (b) => value(b.now, b.kind) },
  {
    id: "usual",
    head: "usually",
    num: true,
    className: "text-ink2",
    by: (b) => b.usual,
    cell: (b) => value(b.usual, b.kind),
  },
  {
    id: "change",
    head: "change",
    num: true,
    className: "whitespace-nowrap",
    by: (b) => b.change,
    cell: (b) => <span className={outside(b) ? "font-bold text-verm" : ""}>{change(b.change, b.kind)}</span>,
  },
  {
    id: "allowed",
    head: "allowed",
    num: true,
    className: "whitespace-nowrap text-ink2",
    cell: (b) => (b.low === null ? "–" : `${value(b.low, b.kind)} to ${value(b.high, b.kind)}`),
  },
  ...(years
    ? [
        {
          id: "year",
          head: "year before",
          num: true,
          by: (b: Row) => b.year_before,
          cell: (b: Row) => change(b.year_before, b.kind),
        },
      ]
    : []),
  {
    id: "verdict",
    head: "verdict",
    className: "pl-6",
    by: (b) => b.verdict,
    cell: (b) => (
      <span className={b.verdict === "too little" ? "text-ink3" : ""}>
        {b.verdict}
        {b.days_of_known_faults > 0 && (
          <span className="text-[13px] text-ink2">
            , known faults on {count(b.days_of_known_faults, "day")}
          </span>
        )}
      </span>
    ),
  },
];

function Scatter({ rows, tolerance }: { rows: Row[]; tolerance: number }) {
  const [box, width] = useWidth<HTMLDivElement>();
  const left = 52,
    height = 400,
    inner = Math.max(width - left - 12, 200),
    plot = height - 34;
  const dots = rows
    .filter((b) => b.now !== null && b.usual !== null && b.usual > 0 && b.low !== null && b.high !== null)
    .map((b) => ({
      b,
      x: b.usual!,
      y: b.now! / b.usual! - 1,
      low: b.low! / b.usual! - 1,
      high: b.high! / b.usual! - 1,
    }));
  if (dots.length === 0)
    return (
      <div ref={box}>
        <p className="text-ink2">Nothing to draw: no series can be held against what it usually has.</p>
      </div>
    );
  const far = Math.min(Math.max(2 * tolerance, ...dots.map((d) => 1.12 * Math.abs(d.y))), 3);
  const xs = dots.map((d) => d.x),
    x = scaleLog()
      .domain([Math.min(...xs) / 1.6, Math.max(...xs) * 1.6])
      .range([0, inner]),
    y = scaleLinear()
      .domain([-Math.min(far, 1), far])
      .range([plot, 0]);
  const clip = (v: number) => y(Math.max(-far, Math.min(far, v)));
  const tens = x.ticks(6).filter((t) => Number.isInteger(Math.round(Math.log10(t) * 1e6) / 1e6));
  const named: typeof dots = []; // as many as can be read
  for (const d of dots)
    if (
      outside(d.b) &&
      named.length < 8 &&
      !named.some((n) => Math.abs(clip(n.y) - clip(d.y)) < 14 && Math.abs(x(n.x) - x(d.x)) < 260)
    )
      named.push(d);
  return (
    <div ref={box}>
      <svg width={width} height={height} role="group" aria-label="What came beside what is usual">
        <g transform={`translate(${left},8)`}>
          <rect
            y={clip(tolerance)}
            width={inner}
            height={clip(-tolerance) - clip(tolerance)}
            fill="var(--pewter)"
          />
          {y.ticks(6).map((t) => (
            <g key={t}>
              <line
                x2={inner}
                y1={y(t)}
                y2={y(t)}
                stroke={t ? "var(--hair)" : "var(--pewter-line)"}
                strokeDasharray={t ? "" : "3 2.5"}
              />
              <text x={-8} y={y(t) + 4} textAnchor="end">
                {t > 0 ? "+" : t < 0 ? "−" : ""}
                {percent(Math.abs(t))}
              </text>
            </g>
          ))}
          {tens.map((t) => (
            <g key={t}>
              <line x1={x(t)} x2={x(t)} y2={plot} stroke="var(--hair)" />
              <text x={x(t)} y={plot + 18} textAnchor="middle">
                {t.toLocaleString("en")}
              </text>
            </g>
          ))}
          {dots.map(
            (d) =>
              outside(d.b) && (
                <line
                  key={`w${d.b.series_id}`}
                  x1={x(d.x)}
                  x2={x(d.x)}
                  y1={clip(d.low)}
                  y2={clip(d.high)}
                  stroke="var(--pewter-line)"
                  strokeWidth="1.6"
                />
              ),
          )}
          {dots.map((d) => (
            <Link key={d.b.series_id} to={`/series/${d.b.series_id}`}>
              <circle
                cx={x(d.x)}
                cy={clip(d.y)}
                r={outside(d.b) ? 4 : 2.6}
                fill={outside(d.b) ? "var(--verm-mark)" : "var(--ink2)"}
              >
                <title>
                  {`${called(d.b)}: ${value(d.b.now, d.b.kind)}, usually ` + `${value(d.b.usual, d.b.kind)}`}
                </title>
              </circle>
            </Link>
          ))}
          {named.map((d) => {
            const right = x(d.x) > inner / 2;
            return (
              <text
                key={d.b.series_id}
                x={x(d.x) + (right ? -8 : 8)}
                y={clip(d.y) + 4}
                textAnchor={right ? "end" : "start"}
              >
                {called(d.b)}
              </text>
            );
          })}
        </g>
      </svg>
    </div>
  );
}
