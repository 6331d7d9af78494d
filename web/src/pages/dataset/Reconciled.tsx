import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import type { Order, Reconciliation } from "../../api/client";
import {
  useColumns,
  useDropReconciliation,
  useHealth,
  useMe,
  useMissingKeys,
  useReconcile,
  useReconciliations,
} from "../../api/queries";
import { Section } from "../../parts/Page";
import { count, duration, number, percent, time } from "../../parts/words";
import { Button, Field, Form, field } from "../../parts/Form";
import { Option, Select } from "../../parts/Select";
import { Sure } from "../../parts/Ask";

/** With what a dataset is compared by the same aggregate, and where that is set up. */
export function Reconciled({ name, zone }: { name: string; zone: string }) {
  const all = useReconciliations(),
    me = useMe();
  const [adding, setAdding] = useState(false);
  const list = all.data?.filter((r) => r.up_dataset === name || r.down_dataset === name) ?? [];
  const may = me.data !== undefined && me.data.role !== "reader";
  if (!all.data || (list.length === 0 && !may)) return null;
  return (
    <Section
      className="mt-5"
      title="Reconciled"
      note="the share of the larger that the other stage lacks, as a monitor of its own"
      right={
        may && !adding ? (
          <Button look="text" onClick={() => setAdding(true)}>
            compare with another stage
          </Button>
        ) : (
          list.length > 0 && count(list.length, "comparison")
        )
      }
    >
      {list.length > 0 && (
        <table className="mt-1 w-full border-collapse">
          <thead>
            <tr>
              <th className="py-1">monitor</th>
              <th>first stage</th>
              <th>second stage</th>
              <th className="num">lag</th>
              <th className="num">tolerance</th>
              <th className="pl-6">compared to</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {list.map((r) => (
              <Row key={r.name} r={r} zone={zone} may={may} />
            ))}
          </tbody>
        </table>
      )}
      {list.length === 0 && !adding && (
        <p className="mt-2 text-ink2">
          With no other stage yet. What is made from it should hold as many rows, as large a sum, or the same
          keys.
        </p>
      )}
      {adding && <Compare name={name} close={() => setAdding(false)} />}
    </Section>
  );
}

function Row({ r, zone, may }: { r: Reconciliation; zone: string; may: boolean }) {
  const drop = useDropReconciliation(),
    keys = useMissingKeys(r.name);
  const look = () =>
    keys.mutate({
      from: new Date(Date.parse(r.compared_to!) - 86_400_000).toISOString(),
      to: r.compared_to!,
    });
  return (
    <>
      <tr className="h-[27px]">
        <td>
          <Link to={`/monitors/${encodeURIComponent(r.metric)}`}>{r.name}</Link>
        </td>
        <td>
          <code>{r.up_dataset}</code>
        </td>
        <td>
          <code>{r.down_dataset}</code>
        </td>
        <td className="num">{duration(r.lag_seconds)}</td>
        <td className="num">{percent(r.tolerance)}</td>
        <td className="pl-6 text-ink2">
          {r.message ? (
            <span className="text-verm">{r.message}</span>
          ) : r.compared_to ? (
            time(r.compared_to, zone, "short")
          ) : (
            "nothing yet"
          )}
        </td>
        <td className="num whitespace-nowrap">
          {may && r.up_key && r.compared_to && (
            <Button look="text" className="mr-4" disabled={keys.isPending} onClick={look}>
              {keys.isPending ? "looking" : "rows on one side"}
            </Button>
          )}
          {may && (
            <Sure
              asks={`End ${r.name}?`}
              says="Its monitor goes, and the alerts with it. This cannot be taken back."
              does="End it"
              act={() => drop.mutate(r.name)}
            >
              remove
            </Sure>
          )}
        </td>
      </tr>
      {(keys.error || drop.error) && (
        <tr>
          <td colSpan={7} role="alert" className="text-verm">
            {(keys.error ?? drop.error)!.message}
          </td>
        </tr>
      )}
      {keys.data && (
        <tr>
          <td colSpan={7} className="pb-2">
            {keys.data.sides.map((s) => (
              <p key={s.dataset} className="mt-1">
                <code>{s.dataset}</code>:{" "}
                {s.missing === 0 ? (
                  `the other side has all of its ${count(s.rows, "key")} of the last day`
                ) : (
                  <>
                    <b className="font-[650]">{number(s.missing)}</b> of {count(s.rows, "key")} of the last
                    day are not on the other side{segments(s.segments)}.{" "}
                    <span className="text-ink2">
                      {s.key}: {s.some.slice(0, 12).join(", ")}
                      {s.missing > 12 && ", …"}
                    </span>
                  </>
                )}
              </p>
            ))}
            <p className="mt-1 text-[13px] text-ink2">Not kept; the audit trail says that you looked.</p>
          </td>
        </tr>
      )}
    </>
  );
}

const segments = (of: Record<string, number>) => {
  const named = Object.entries(of)
    .filter(([s]) => s !== "")
    .sort((a, b) => b[1] - a[1]);
  return (
    named.length > 0 &&
    `: ${named
      .slice(0, 5)
      .map(([s, n]) => `${number(n)} of ${s}`)
      .join(", ")}`
  );
};

/** Sets a comparison up; what was typed stays when it is refused. */
function Compare({ name, close }: { name: string; close: () => void }) {
  const set = useReconcile(),
    health = useHealth();
  const [other, setOther] = useState(""),
    [side, setSide] = useState("later"),
    [measure, setMeasure] = useState<"rows" | "sum" | "distinct">("rows");
  const own = useColumns(name).data?.[0]?.columns?.map((c) => c.name) ?? [],
    theirs = useColumns(other).data?.[0]?.columns?.map((c) => c.name) ?? [];
  const both = own.filter((c) => theirs.includes(c));
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget),
      text = (k: string) => String(f.get(k) ?? "");
    const mine = { dataset: name, column: text("own_column"), key: text("own_key") },
      its = { dataset: other, column: text("other_column"), key: text("other_key") };
    const [up, down] = side === "later" ? [mine, its] : [its, mine];
    const order: Order = {
      up: up.dataset,
      down: down.dataset,
      measure,
      up_column: up.column,
      down_column: down.column,
      up_key: up.key,
      down_key: down.key,
      by: text("by") ? [text("by")] : [],
      lag_seconds: Number(text("lag")) * 60,
      tolerance: Number(text("tolerance")) / 100,
      owner: text("owner"),
    };
    set.mutate(order, { onSuccess: close });
  };
  const columns = (list: string[], none: string) => (
    <>
      {<Option value="">{none}</Option>}
      {list.map((c) => (
        <Option key={c}>{c}</Option>
      ))}
    </>
  );
  return (
    <Form
      error={set.error}
      className="mt-2 grid max-w-[980px] grid-cols-3 max-lg:grid-cols-1 gap-x-6 gap-y-3"
      aria-label="new reconciliation"
      onSubmit={submit}
    >
      <Field label="The other stage">
        <Select required value={other} onChange={(v) => setOther(v)} className="w-full">
          {columns(
            (health.data ?? []).map((h) => h.dataset.name).filter((d) => d !== name),
            "choose a dataset",
          )}
        </Select>
      </Field>
      <Field label="It comes">
        <Select value={side} onChange={(v) => setSide(v)} className="w-full">
          <Option value="later">after {name}</Option>
          <Option value="earlier">before {name}</Option>
        </Select>
      </Field>
      <Field label="Lag" help="minutes until the second has the same" of="lag">
        <input name="lag" type="number" min="0" max="10080" step="any" defaultValue="0" className={field} />
      </Field>
      <Field label="Compared by">
        <Select value={measure} onChange={(v) => setMeasure(v as "rows")} className="w-full">
          <Option value="rows">rows</Option>
          <Option value="sum">the sum of a column</Option>
          <Option value="distinct">different values of a column</Option>
        </Select>
      </Field>
      {measure !== "rows" && (
        <Field label={`Column of ${name}`}>
          <Select required name="own_column" className="w-full">
            {columns(own, "choose")}
          </Select>
        </Field>
      )}
      {measure !== "rows" && (
        <Field label={`Column of ${other || "the other"}`}>
          <Select required name="other_column" className="w-full">
            {columns(theirs, "choose")}
          </Select>
        </Field>
      )}
      <Field label="By segment" help="a column that both have" of="by">
        <Select name="by" className="w-full">
          {columns(both, "of the whole alone")}
        </Select>
      </Field>
      <Field label="Tolerance" help="% that never ring" of="tolerance">
        <input
          name="tolerance"
          type="number"
          min="0"
          max="100"
          step="any"
          defaultValue="0"
          className={field}
        />
      </Field>
      <Field label={`Key of ${name}`} help="names a row">
        <Select name="own_key" className="w-full">
          {columns(own, "none: rows are only counted")}
        </Select>
      </Field>
      <Field label={`Key of ${other || "the other"}`} help="names the same row">
        <Select name="other_key" className="w-full">
          {columns(theirs, "none")}
        </Select>
      </Field>
      <Field label="Owner" help="of its monitor" of="owner">
        <input name="owner" className={field} />
      </Field>
      <div className="col-span-3 flex items-center gap-3">
        <Button type="submit" disabled={set.isPending} look="primary">
          {set.isPending ? "Reading the known past" : "Compare"}
        </Button>
        <Button onClick={close}>Close</Button>
      </div>
    </Form>
  );
}
