import { useState } from "react";
import type { PairResult } from "../../api/client";
import { useDriftPair } from "../../api/drift";
import { Mark } from "../../parts/Mark";
import { Section } from "../../parts/Page";
import { HeatMap } from "./HeatMap";
import { brief } from "./says";
import { Field } from "../../parts/Form";
import { Option, Select } from "../../parts/Select";
import { cx } from "../../parts/cx";

/**
 * Two features together, the period beside the reference: those that changed most, and any that are asked
 * for.
 */
export function PairsView({
  name,
  at,
  features,
  pairs,
  rows,
  message,
}: {
  name: string;
  at: string;
  features: string[];
  pairs: PairResult[];
  rows: string;
  message?: string;
}) {
  const [place, setPlace] = useState(0);
  const [own, setOwn] = useState<[string, string]>(["", ""]);
  const asked = useDriftPair(name, own[0], own[1], at);
  const chosen = own[0] !== "" && own[1] !== "" && own[0] !== own[1];
  const p = chosen ? asked.data?.pair : pairs[Math.min(place, pairs.length - 1)];
  const choose = (side: 0 | 1) => (
    <Field label={side === 0 ? "First feature" : "Second feature"}>
      <Select
        className="min-w-0 grow"
        value={own[side]}
        onChange={(v) => setOwn(side === 0 ? [v, own[1]] : [own[0], v])}
      >
        <Option value="">feature</Option>
        {features.map((f) => (
          <Option key={f}>{f}</Option>
        ))}
      </Select>
    </Field>
  );
  return (
    <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[300px_minmax(0,1fr)] gap-8">
      <Section title="Pairs" note="changed most, beyond what each alone did">
        {pairs.map((one, i) => (
          <button
            key={`${one.first} ${one.second}`}
            aria-pressed={!chosen && i === place}
            onClick={() => {
              setPlace(i);
              setOwn(["", ""]);
            }}
            className={cx(
              "block w-full border-b border-hair py-[7px] text-left",
              !chosen && i === place ? "bg-well" : "",
            )}
          >
            <span className="mono text-[13px] font-[650]">{one.first}</span> and{" "}
            <span className="mono text-[13px] font-[650]">{one.second}</span>
            <span className="flex justify-between text-[13px] text-ink2">
              <span>
                {brief(one.beyond)}, limit {brief(one.limit)}
              </span>
              {one.beyond > one.limit ? (
                <Mark state="critical" word="over" />
              ) : (
                <Mark state="not due" word="as expected" />
              )}
            </span>
          </button>
        ))}
        {pairs.length === 0 && (
          <p className="mt-2 text-ink2">
            {message || "No two features could be compared together: both need at least two values."}
          </p>
        )}
        <div className="mt-4 font-[650]">Any two</div>
        <div className="mt-1 flex items-center gap-2">
          {choose(0)} and {choose(1)}
        </div>
        {own[0] !== "" && own[0] === own[1] && <p className="mt-1 text-ink2">Choose two different ones.</p>}
        {chosen && asked.error && (
          <p role="alert" className="mt-1 text-verm">
            {asked.error.message}
          </p>
        )}
        <p className="mt-4 text-ink2">{rows}</p>
      </Section>
      {p ? (
        <Section
          title={`${p.first} and ${p.second}`}
          note="% of rows; darker is more"
          right={
            p.beyond > p.limit
              ? `they go together in another way: ${brief(p.beyond)}, limit ${brief(p.limit)}`
              : "they go together as before"
          }
        >
          <div className="mt-2 flex flex-wrap gap-x-5 gap-y-4">
            <HeatMap
              title={`reference, ${p.reference_rows.toLocaleString("en")} rows`}
              table={p.reference}
              pair={p}
            />
            <HeatMap
              title={`period, ${p.rows.toLocaleString("en")} rows`}
              table={p.period}
              pair={p}
              expected={p.beyond > p.limit ? p.expected : undefined}
            />
          </div>
          {p.beyond > p.limit && (
            <p className="mt-2 max-w-[760px] text-ink2">
              A mark on the period: <b className="text-ink">▲</b> more, <b className="text-ink">▽</b> fewer
              rows than if the two went together as in the reference, each alone being as it is now; by more
              than three standard errors.
            </p>
          )}
        </Section>
      ) : (
        <p className="text-ink2">
          {chosen && asked.isFetching ? "drawing a sample of rows from where they lie; it is not kept" : ""}
        </p>
      )}
    </div>
  );
}
