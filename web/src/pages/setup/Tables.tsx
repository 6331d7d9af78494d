import { useState } from "react";
import { Link } from "react-router";
import type { Offered } from "../../api/client";
import { useMetrics, useTables } from "../../api/setup";
import { Reading, Section, Trouble } from "../../parts/Page";
import { bytes, count, number } from "../../parts/words";
import { MeasureTable } from "./MeasureTable";
import { Button } from "../../parts/Form";
import { type Column, few, Filter, Table, useFound } from "../../parts/Table";

const columns = (chosen: string | undefined, measured: (t: Offered) => number): Column<Offered>[] => [
  {
    id: "table",
    head: "table",
    fixed: true,
    by: (t) => t.name,
    cell: (t) => (
      <span className={chosen === t.name ? "font-bold" : ""}>
        {measured(t) ? (
          <Link to={`/datasets/${t.name}`}>
            <code>{t.name}</code>
          </Link>
        ) : (
          <code>{t.name}</code>
        )}
        {t.kind !== "table" && <span className="ml-2 text-ink2">{t.kind}</span>}
      </span>
    ),
  },
  {
    id: "rows",
    head: "rows, about",
    num: true,
    by: (t) => (t.rows < 0 ? null : t.rows),
    cell: (t) => (t.rows < 0 ? "not counted" : number(t.rows)),
  },
  { id: "size", head: "size", num: true, className: "pr-6", by: (t) => t.bytes, cell: (t) => bytes(t.bytes) },
  {
    id: "times",
    head: "time columns",
    cell: (t) =>
      t.time_columns.filter((c) => c !== t.loaded_by).join(", ") || (
        <span className="text-ink3">none: measured as it stands</span>
      ),
  },
  {
    id: "loaded",
    head: "loaded by",
    by: (t) => t.loaded_by,
    cell: (t) => t.loaded_by || <span className="text-ink3">–</span>,
  },
  {
    id: "measured",
    head: "measured",
    by: measured,
    cell: (t) => (measured(t) ? count(measured(t), "metric") : <span className="text-ink3">not yet</span>),
  },
];

/** The tables of a warehouse, those not measured yet first. */
export function Tables({ source }: { source: string }) {
  const tables = useTables(source),
    metrics = useMetrics();
  const [chosen, choose] = useState<string>();
  const measured = (t: Offered) => (metrics.data ?? []).filter((m) => m.dataset === t.name).length;
  const list = useFound(tables.data ?? [], (t) => t.name, "tables").sort(
    (a, b) => Math.sign(measured(a)) - Math.sign(measured(b)) || a.name.localeCompare(b.name),
  );
  return (
    <Section
      className="mt-6"
      title={`Tables of ${source}`}
      note="that its login may read; time columns are proposed, best first"
      right={tables.data && count(tables.data.length, "table")}
    >
      <Trouble what="Tables" error={tables.error} />
      {tables.isPending && <Reading what="tables" />}
      {tables.data?.length === 0 && (
        <p className="mt-2 text-ink2">
          This login may read no table. In the warehouse:{" "}
          <code>grant select on all tables in schema … to …</code>
        </p>
      )}
      {(tables.data?.length ?? 0) > few && (
        <div className="mt-2">
          <Filter name="tables" by="name" />
        </div>
      )}
      <Table
        name="tables"
        className="mt-1"
        columns={columns(chosen, measured)}
        rows={list}
        id={(t) => t.name}
        after={(t) => (
          <Button
            look="text"
            aria-expanded={chosen === t.name}
            aria-label={chosen === t.name ? `Close ${t.name}` : `Measure ${t.name}`}
            onClick={() => choose(chosen === t.name ? undefined : t.name)}
          >
            {chosen === t.name ? "close" : "measure"}
          </Button>
        )}
      />
      {chosen && tables.data && (
        <MeasureTable key={chosen} source={source} table={tables.data.find((t) => t.name === chosen)!} />
      )}
    </Section>
  );
}
