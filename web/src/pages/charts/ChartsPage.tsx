import { useState } from "react";
import { useChart, useHour } from "../../api/queries";
import { Choice } from "../../parts/Controls";
import { Button } from "../../parts/Form";
import { Page, Reading, Trouble } from "../../parts/Page";
import { word } from "../../parts/words";
import { besides, type Beside } from "./compare";
import { FindSeries } from "./FindSeries";
import { Pinned } from "./Pinned";
import { useAddress } from "../../parts/address";

const day = 86_400_000;
const spans = [
  ["2", "2 days"],
  ["7", "7 days"],
  ["28", "28 days"],
  ["91", "13 weeks"],
] as const;

/**
 * Charts of a person's choice on one time axis, side by side, each beside its own past or
 * another series. All of it is in the address, to be kept or sent to somebody.
 */
export function ChartsPage() {
  const [search, put] = useAddress();
  const hour = useHour();
  const pinned = search.get("series")?.split(",").map(Number).filter(Boolean) ?? [];
  const span = (search.get("days") ?? "7") as (typeof spans)[number][0];
  const beside = (search.get("beside") ?? "") as Beside;
  const over = Number(search.get("with")) || undefined;
  const zoomed = search.get("from") && search.get("to");
  const to = zoomed ? new Date(search.get("to")!) : new Date(hour),
    from = zoomed ? new Date(search.get("from")!) : new Date(hour - Number(span) * day);
  const [at, setAt] = useState(Infinity);
  const pin = (list: number[]) => put({ series: list.join(",") });
  const other = useChart(over, from, to);
  return (
    <Page
      place="Charts"
      sentence={
        ["No series is pinned yet.", "One series."][pinned.length] ??
        `${word(pinned.length)} series side by side.`
      }
      after="Drag over a chart to choose a stretch of it: look closer, say what it was, note it, or ask why."
    >
      <div className="mt-3 flex flex-wrap items-end gap-x-6 gap-y-2">
        <FindSeries label="Pin a series" choose={(id) => pin([...pinned.filter((p) => p !== id), id])} />
        <Choice
          name="Days"
          value={span}
          options={spans}
          onChange={(v) => put({ days: v, from: undefined, to: undefined })}
        />
        <Choice name="Beside" value={beside} options={besides} onChange={(v) => put({ beside: v })} />
        {over ? (
          <Button look="text" onClick={() => put({ with: undefined })}>
            without {other.data ? other.data.metric : "the other"}
          </Button>
        ) : (
          <FindSeries label="Lay another series over them" choose={(id) => put({ with: String(id) })} />
        )}
        {zoomed && (
          <Button look="text" onClick={() => put({ from: undefined, to: undefined })}>
            the whole stretch again
          </Button>
        )}
      </div>
      <Trouble what="The other series" error={other.error} />
      {other.isFetching && !other.data && <Reading what="the other series" />}
      <div
        className={pinned.length > 1 ? "mt-4 grid grid-cols-2 gap-x-9 gap-y-7 max-lg:grid-cols-1" : "mt-4"}
      >
        {pinned.map((id) => (
          <Pinned
            key={id}
            id={id}
            from={from}
            to={to}
            beside={beside}
            other={other.data}
            at={at}
            onAt={setAt}
            zoom={(a, b) => put({ from: a.toISOString(), to: b.toISOString() })}
            unpin={() => pin(pinned.filter((p) => p !== id))}
          />
        ))}
      </div>
    </Page>
  );
}
