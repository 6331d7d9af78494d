import { useState } from "react";
import { useOutliers } from "../api/queries";
import { Choice } from "../parts/Controls";
import { Reading } from "../parts/Page";
import { number, signed, time, value } from "../parts/words";

/** Which samples stand out, by several rules side by side, and what the set would be without them. */
export function Outliers({ metric, segment }: { metric: string; segment: string }) {
  const [days, setDays] = useState<"7" | "28" | "90">("28");
  const study = useOutliers(metric, segment, Number(days));
  const s = study.data?.[0];
  return (
    <>
      <div className="mt-2 text-[13px]">
        <Choice
          name="Days looked at"
          value={days}
          options={[
            ["7", "7 d"],
            ["28", "28 d"],
            ["90", "90 d"],
          ]}
          onChange={setDays}
        />
      </div>
      {study.error && (
        <p role="alert" className="mt-2 text-ink2">
          {study.error.message}
        </p>
      )}
      {study.isPending && <Reading what="what stands out" />}
      {s && (
        <>
          <p className="mt-2">{s.sentence}</p>
          <p className="mt-1 text-[13px] text-ink2">
            {s.rules
              .filter((r) => r.beyond > 0 || r.word || r.low !== null || r.high !== null)
              .map((r) => `${r.name}: ${r.beyond} beyond${r.word ? ` (${r.word})` : ""}`)
              .join("; ")}
            .
          </p>
          {s.odd.length > 0 && (
            <table className="mt-1 w-full border-collapse" data-outliers>
              <thead>
                <tr className="border-b border-rule">
                  <th className="py-1">when</th>
                  <th className="num">value</th>
                  <th className="num">usual</th>
                  <th className="num">z</th>
                  <th className="num">modified z</th>
                  <th className="pl-4">by</th>
                </tr>
              </thead>
              <tbody>
                {s.odd.map((o) => (
                  <tr key={o.at} className="h-[25px]">
                    <td className="whitespace-nowrap">{o.at && time(o.at, s.zone)}</td>
                    <td className="num">{value(o.value, s.kind)}</td>
                    <td className="num text-ink2">{value(o.usual, s.kind)}</td>
                    <td className="num">{o.z === null ? "–" : signed(o.z)}</td>
                    <td className="num">{o.modified_z === null ? "–" : signed(o.modified_z)}</td>
                    <td className="pl-4 text-[13px] text-ink2">{o.rules.join(", ")}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {s.more > 0 && <p className="mt-1 text-[13px] text-ink2">{number(s.more)} more stand out.</p>}
        </>
      )}
    </>
  );
}
