import { useState } from "react";
import { Link } from "react-router";
import type { Chart } from "../../api/client";
import { useChart, useNow, useSiblings } from "../../api/queries";
import { type Over, SeriesChart } from "../../chart/SeriesChart";
import { Button } from "../../parts/Form";
import { Reading, Section, Trouble } from "../../parts/Page";
import { count, signed, time, value } from "../../parts/words";
import { saveCSV, savePNG, saveSVG } from "../save";
import { back, type Beside, laid, middle, scaled } from "./compare";
import { Stretch } from "./Stretch";

/** One pinned series: its chart with what is laid over it, and what can be done with a stretch. */
export function Pinned({
  id,
  from,
  to,
  beside,
  other,
  at,
  onAt,
  zoom,
  unpin,
}: {
  id: number;
  from: Date;
  to: Date;
  beside: Beside;
  other: Chart | undefined;
  at: number;
  onAt: (index: number) => void;
  zoom: (from: Date, to: Date) => void;
  unpin: () => void;
}) {
  const now = useNow();
  const chart = useChart(id, from, to);
  const by = back[beside];
  const before = useChart(by ? id : undefined, new Date(+from - by), new Date(+to - by));
  const [chosen, choose] = useState<[Date, Date]>();
  const [figures, show] = useState(false);
  const c = chart.data;
  const siblings = useSiblings(beside === "siblings" ? c : undefined, from, to);
  const over: Over[] = [];
  if (c && before.data && by)
    over.push({
      name: beside === "week" ? "a week before" : "a year before",
      values: laid(c, before.data, by),
    });
  if (c && siblings.length > 0)
    over.push({
      name: `the middle of ${count(siblings.length, "sibling")}`,
      values: middle(c, siblings),
      note: "brought to the same mean",
    });
  if (c && other && other.series.id !== id)
    over.push({
      name: `${other.metric}${other.series.segment && `, ${other.series.segment}`}`,
      values: scaled(laid(c, other, 0), c),
      note: "brought to the same mean",
    });
  const title = c ? `${c.metric}${c.series.segment && `, ${c.series.segment}`}` : `Series ${id}`;
  return (
    <Section
      title={title}
      note={c && <Link to={`/series/${id}`}>study it</Link>}
      right={
        <span className="flex gap-3">
          {c && (
            <>
              <Button look="text" onClick={() => savePNG(c)}>
                PNG
              </Button>
              <Button look="text" onClick={() => saveSVG(c)}>
                SVG
              </Button>
              <Button look="text" onClick={() => saveCSV(c)}>
                CSV
              </Button>
              <Button look="text" aria-expanded={figures} onClick={() => show(!figures)}>
                table
              </Button>
            </>
          )}
          <Button look="text" onClick={unpin}>
            unpin
          </Button>
        </span>
      }
    >
      <Trouble what={title} error={chart.error} />
      {chart.isPending && <Reading what="its samples" />}
      {c && (
        <>
          <SeriesChart
            chart={c}
            now={now}
            at={Math.min(at, c.at.length - 1)}
            onAt={onAt}
            over={over}
            onZoom={(a, b) => choose(a && b ? [a, b] : undefined)}
            height={250}
          />
          {over.length > 0 && (
            <p className="text-[13px] text-ink2">
              {over.map((o) => `Dotted: ${o.name}${o.note ? `, ${o.note}` : ""}`).join("; ")}.
            </p>
          )}
          {chosen && (
            <Stretch
              chart={c}
              from={chosen[0]}
              to={chosen[1]}
              zoom={() => {
                zoom(...chosen);
                choose(undefined);
              }}
              close={() => choose(undefined)}
            />
          )}
          {figures && <Values chart={c} over={over} />}
        </>
      )}
    </Section>
  );
}

/** What is drawn, as figures. */
function Values({ chart: c, over }: { chart: Chart; over: Over[] }) {
  return (
    <div className="mt-2 max-h-[320px] overflow-y-auto" tabIndex={0} role="region" aria-label="What is drawn">
      <table className="w-full border-collapse">
        <thead>
          <tr>
            <th>from</th>
            <th className="num">observed</th>
            <th className="num">expected</th>
            <th className="num">band</th>
            <th className="num">deviation</th>
            {over.map((o) => (
              <th key={o.name} className="num">
                {o.name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {c.at.map((t, i) => (
            <tr key={t}>
              <td>{time(t, c.zone)}</td>
              <td className="num">{value(c.observed[i], c.kind)}</td>
              <td className="num">{value(c.expected[i], c.kind)}</td>
              <td className="num">
                {c.low[i] === null ? "–" : `${value(c.low[i], c.kind)} to ${value(c.high[i], c.kind)}`}
              </td>
              <td className="num">{c.deviation[i] === null ? "–" : signed(c.deviation[i])}</td>
              {over.map((o) => (
                <td key={o.name} className="num">
                  {value(o.values[i], c.kind)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
