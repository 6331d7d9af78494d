import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { useColumns } from "../../api/queries";
import { Choice } from "../../parts/Controls";
import { number, signed, time } from "../../parts/words";
import { Button, Field, Refusal } from "../../parts/Form";
import { Option, Select } from "../../parts/Select";

const numeric = /^(smallint|integer|bigint|real|double precision|numeric)/;

/**
 * Which rows of the table stand out by a column, and the SQL that finds them. Looked up when asked: it
 * reads rows, and the audit trail says so.
 */
export function StandOut({ dataset }: { dataset: string }) {
  const columns = useColumns(dataset);
  const known = columns.data?.[0]?.columns ?? [];
  const numbers = known.filter((c) => numeric.test(c.type)).map((c) => c.name);
  const [column, setColumn] = useState(""),
    [key, setKey] = useState(""),
    [days, setDays] = useState<"1" | "7" | "28">("7");
  const chosen = column || numbers.find((c) => c !== "id" && !c.endsWith("_id")) || numbers[0];
  const look = useMutation({
    mutationFn: () =>
      answer(
        api.POST("/api/v1/datasets/{name}/outliers", {
          params: { path: { name: dataset } },
          body: {
            column: chosen,
            key: key || undefined,
            limit: 8,
            from: new Date(Date.now() - Number(days) * 86_400_000).toISOString(),
          },
        }),
      ),
  });
  if (numbers.length === 0)
    return <p className="mt-2 text-ink2">No column with numbers is known of this table.</p>;
  const found = look.data,
    odd = (found?.studies ?? []).flatMap((s) => s.odd.map((o) => ({ ...o, zone: s.zone }))).slice(0, 20);
  return (
    <>
      <div className="mt-2 flex flex-wrap items-center gap-x-4 gap-y-2 text-[13px]">
        <Field label={<>column </>}>
          <Select className="w-full" value={chosen} onChange={(v) => setColumn(v)}>
            {numbers.map((c) => (
              <Option key={c}>{c}</Option>
            ))}
          </Select>
        </Field>
        <Field label={<>each value of </>}>
          <Select className="w-full" value={key} onChange={(v) => setKey(v)}>
            <Option value="">none: all rows together</Option>
            {known
              .filter((c) => c.name !== chosen)
              .map((c) => (
                <Option key={c.name}>{c.name}</Option>
              ))}
          </Select>
        </Field>
        <Choice
          name="Days of rows"
          value={days}
          options={[
            ["1", "1 d"],
            ["7", "7 d"],
            ["28", "28 d"],
          ]}
          onChange={setDays}
        />
        <Button disabled={look.isPending} onClick={() => look.mutate()}>
          {look.isPending ? "reading rows" : "look"}
        </Button>
        <span className="text-ink2">
          Rows are read in the warehouse and not kept; the audit trail says who looked.
        </span>
      </div>
      <Refusal error={look.error} className="mt-2" />
      {found && (
        <div data-stand-out>
          <p className="mt-2">
            {found.studies.length === 1
              ? found.studies[0].sentence
              : odd.length === 0
                ? `Nothing stands out of ${number(found.rows)} rows.`
                : `Rows of ${number(found.studies.filter((s) => s.odd.length > 0).length)} of ` +
                  `${number(found.studies.length)} values of ${key} stand out.`}
            {found.more && ` Only the newest ${number(found.rows)} rows were looked at.`}
          </p>
          {odd.length > 0 && (
            <table className="mt-1 w-full border-collapse">
              <thead>
                <tr className="border-b border-rule">
                  <th className="py-1">when</th>
                  {key && <th>{key}</th>}
                  <th className="num">{found.column}</th>
                  <th className="num">usual</th>
                  <th className="num">modified z</th>
                  <th className="pl-4">by</th>
                </tr>
              </thead>
              <tbody>
                {odd.map((o, i) => (
                  <tr key={i} className="h-[25px]">
                    <td className="whitespace-nowrap">{o.at && time(o.at, o.zone)}</td>
                    {key && <td>{o.place || "(none)"}</td>}
                    <td className="num">{number(o.value)}</td>
                    <td className="num text-ink2">{number(o.usual)}</td>
                    <td className="num">{o.modified_z === null ? "–" : signed(o.modified_z)}</td>
                    <td className="pl-4 text-[13px] text-ink2">{o.rules.join(", ")}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {found.sql && (
            <pre tabIndex={0} className="mt-2 overflow-x-auto bg-well px-3 py-2 text-[12.5px]">
              <code>{found.sql}</code>
            </pre>
          )}
        </div>
      )}
    </>
  );
}
