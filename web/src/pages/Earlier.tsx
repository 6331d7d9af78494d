import { useState } from "react";
import { type By, useEarlier } from "../api/queries";
import { Choice } from "../parts/Controls";
import { Reading } from "../parts/Page";
import { signed, value } from "../parts/words";

/** A week, month or year of a series beside the same of earlier years and weeks. */
export function Earlier({ id }: { id: number }) {
  const [by, setBy] = useState<By>("week");
  const study = useEarlier(id, by);
  const s = study.data;
  const said = (v: number | null) =>
    v === null
      ? "–"
      : s!.kind === "count" || s!.kind === "duration"
        ? `${signed(100 * v)} %`
        : `${v < 0 ? "−" : "+"}${value(Math.abs(v), s!.kind)}`;
  return (
    <>
      <div className="mt-2 text-[13px]">
        <Choice
          name="Span held"
          value={by}
          options={[
            ["week", "week"],
            ["month", "month"],
            ["year", "year"],
          ]}
          onChange={setBy}
        />
      </div>
      {study.error && (
        <p role="alert" className="mt-2 text-ink2">
          {study.error.message}
        </p>
      )}
      {study.isPending && <Reading what="earlier days" />}
      {s && <p className="mt-2">{s.sentence}</p>}
      {s && s.against.length > 0 && (
        <table className="mt-1 w-full border-collapse" data-earlier>
          <thead>
            <tr className="border-b border-rule">
              <th className="py-1">beside</th>
              <th>from</th>
              <th className="num">a day</th>
              <th className="num">then</th>
              <th className="num">change</th>
              <th className="num">95 %</th>
              <th className="num">days</th>
            </tr>
          </thead>
          <tbody>
            {s.against.map((e) => (
              <tr key={e.of} className="h-[25px]">
                <td>{e.of}</td>
                <td className="text-ink2">{e.from}</td>
                <td className="num">{value(e.now, s.kind)}</td>
                <td className="num text-ink2">{value(e.then, s.kind)}</td>
                <td className="num">{said(e.change)}</td>
                <td className="num whitespace-nowrap text-ink2">
                  {e.low === null ? "–" : `${said(e.low)} to ${said(e.high)}`}
                </td>
                <td className="num">{e.pairs}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
