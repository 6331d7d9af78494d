import { useState } from "react";
import { Link } from "react-router";
import type { AlertDetail, Chart } from "../../api/client";
import { useHeld } from "../../api/learning";
import { useExplain } from "../../api/queries";
import { SeriesChart } from "../../chart/SeriesChart";
import { Section } from "../../parts/Page";
import { city, number, rarity, signed, time, value } from "../../parts/words";
import { saveCSV, savePNG } from "../save";
import { Button } from "../../parts/Form";

const day = 86_400_000;
const days = (from: string, to: string) => Math.round((Date.parse(to) - Date.parse(from)) / day);

/** The chart with its reading at the side. */
export function Evidence({
  chart,
  alert: a,
  now,
  zoom,
}: {
  chart: Chart;
  alert: AlertDetail;
  now: number;
  zoom: (from: Date | null, to?: Date) => void;
}) {
  const last = chart.observed.findLastIndex((v) => v !== null);
  const [at, setAt] = useState<number | null>(null);
  const [table, setTable] = useState(false);
  const index = Math.min(Math.max(at ?? last, 0), chart.at.length - 1);
  return (
    <div className="mt-[10px] grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_260px] gap-6">
      {table ? (
        <Values chart={chart} />
      ) : (
        <SeriesChart chart={chart} now={now} since={a.since} at={index} onAt={setAt} onZoom={zoom} />
      )}
      <ReadingTable chart={chart} index={index} table={table} setTable={setTable} />
    </div>
  );
}

function ReadingTable({
  chart,
  index,
  table,
  setTable,
}: {
  chart: Chart;
  index: number;
  table: boolean;
  setTable: (v: boolean) => void;
}) {
  const [why, setWhy] = useState(false);
  const at = chart.at?.[index];
  const explain = useExplain(chart.series.id, why ? at : undefined);
  const pick = (list: (number | null)[] | null) => list?.[index];
  const deviation = pick(chart.deviation);
  const rows = [
    ["observed", value(pick(chart.observed), chart.kind), true],
    ["expected", value(pick(chart.expected), chart.kind)],
    ["low", value(pick(chart.low), chart.kind)],
    ["high", value(pick(chart.high), chart.kind)],
    ["deviation", deviation === null || deviation === undefined ? "–" : signed(deviation), true],
    [
      "how rare",
      (pick(chart.return_period_seconds) ?? 0) > chart.period_seconds * 2
        ? rarity(pick(chart.return_period_seconds))
        : "nothing unusual",
    ],
  ] as const;
  return (
    <Section title="Reading" note={at && time(at, chart.zone)}>
      <table className="mt-1 w-full border-collapse" aria-live="polite">
        <tbody>
          {rows.map(([name, text, strong]) => (
            <tr key={name} className="h-[27px]">
              <td>{name}</td>
              <td className={`num ${strong ? "font-[650]" : ""}`}>{text}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {chart.message && <p className="mt-2 text-ink2">{chart.message}</p>}
      <p className="mt-2 text-[13px] text-ink2">
        <Button look="text" onClick={() => setWhy(!why)}>
          Why {value(pick(chart.expected), chart.kind)}?
        </Button>{" "}
        {why && explain.error && explain.error.message}
        {why && explain.data && (
          <>
            {explain.data.parts
              .map(
                (p, i) =>
                  `${p.name} ` +
                  (i === 0 || chart.kind === "share"
                    ? value(p.amount, chart.kind)
                    : (p.amount >= 0 ? "+" : "") + number(p.amount)),
              )
              .join(", ")}
            . Learned from {days(explain.data.trained_from, explain.data.trained_to)} days,{" "}
            {explain.data.excluded.length} stretches left out.
          </>
        )}
      </p>
      <p className="mt-2 flex gap-4 text-[13px]">
        <Button look="text" onClick={() => setTable(!table)}>
          {table ? "Chart" : "Table"}
        </Button>
        <Button look="text" onClick={() => savePNG(chart)}>
          PNG
        </Button>
        <Button look="text" onClick={() => saveCSV(chart)}>
          CSV
        </Button>
      </p>
    </Section>
  );
}

/** The same data as a table. */
function Values({ chart }: { chart: Chart }) {
  return (
    <div className="h-[330px] overflow-auto" tabIndex={0}>
      <table className="w-full border-collapse">
        <thead className="sticky top-0 bg-ground">
          <tr>
            <th>period from ({city(chart.zone)})</th>
            <th className="num">observed</th>
            <th className="num">expected</th>
            <th className="num">low</th>
            <th className="num">high</th>
            <th className="num">deviation</th>
          </tr>
        </thead>
        <tbody>
          {chart.at.map((t, i) => (
            <tr key={t}>
              <td>{time(t, chart.zone)}</td>
              {[chart.observed, chart.expected, chart.low, chart.high].map((c, k) => (
                <td key={k} className="num">
                  {value(c?.[i], chart.kind)}
                </td>
              ))}
              <td className="num">{number(chart.deviation?.[i], 1)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** What speaks against a fault, and the labelled alerts most like it. */
export function Why({ id }: { id: number }) {
  const held = useHeld(id);
  if (!held.data) return null;
  const against = held.data.reasons
    .filter((r) => r.push < 0)
    .slice(0, 3)
    .map((r) => r.theme);
  return (
    <>
      told apart by {against.join(", ") || "nothing in particular"}; most like{" "}
      {held.data.nearest.slice(0, 3).map((n, i) => (
        <span key={n.id}>
          {i > 0 && ", "}
          <Link to={`/alerts/${n.id}`}>{n.id}</Link> ({n.verdict})
        </span>
      ))}
      .
    </>
  );
}
