import type { ColumnVersion, Delivery, Run } from "../../api/client";
import { useColumns, useDeliveries, useLineage, useRuns } from "../../api/queries";
import { LineageGraph } from "../../chart/LineageGraph";
import { Reconciled } from "./Reconciled";
import { Section } from "../../parts/Page";
import { bytes, count, duration, number, time } from "../../parts/words";

/**
 * What a dataset hangs on: what it is made from, the runs that write it, its columns, the files that
 * landed.
 */
export function Surroundings({
  name,
  source,
  zone,
  files,
}: {
  name: string;
  source: string;
  zone: string;
  files: boolean;
}) {
  const lineage = useLineage(name),
    runs = useRuns(name),
    columns = useColumns(name),
    deliveries = useDeliveries(name, files);
  const graph = lineage.data && lineage.data.links.length > 0 ? lineage.data : undefined;
  return (
    <>
      {graph && (
        <Section
          className="mt-5"
          title="Lineage"
          note="made from, at left; what is made from it, at right"
          right={count(graph.nodes.length, "dataset")}
        >
          <LineageGraph
            here={name}
            links={graph.links}
            nodes={graph.nodes.map((n) => ({
              ...n,
              broken: n.worst !== "",
              says: n.watched ? (n.worst ? `alert open: ${n.worst}` : "quiet") : "not watched",
            }))}
          />
        </Section>
      )}
      <Reconciled name={name} zone={zone} />
      <div className="mt-5 grid max-lg:grid-cols-1 grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-8">
        <Section
          title="Runs"
          note="that wrote it, newest first"
          right={runs.data?.length ? failures(runs.data) : undefined}
        >
          {runs.data?.length ? (
            <Runs runs={runs.data} zone={zone} />
          ) : (
            <p className="mt-2 text-ink2">
              No run was heard of. Send OpenLineage events to <code>/api/v1/lineage</code>.
            </p>
          )}
        </Section>
        <Section title="Columns" note={`as ${source} has them`}>
          {columns.data?.length ? (
            <Columns versions={columns.data} zone={zone} />
          ) : (
            <p className="mt-2 text-ink2">Not looked at yet.</p>
          )}
        </Section>
      </div>
      {files && (
        <Section className="mt-5" title="Files" note="that landed, newest first">
          {deliveries.data?.length ? (
            <Deliveries list={deliveries.data} zone={zone} />
          ) : (
            <p className="mt-2 text-ink2">No file has landed yet.</p>
          )}
        </Section>
      )}
    </>
  );
}

const failures = (runs: Run[]) => {
  const bad = runs.filter((r) => r.state === "failed" || r.state === "aborted").length;
  return bad === 0 ? `none of the last ${runs.length} failed` : `${bad} of the last ${runs.length} failed`;
};

function Runs({ runs, zone }: { runs: Run[]; zone: string }) {
  const took = (r: Run) =>
    r.started_at && r.ended_at ? (Date.parse(r.ended_at) - Date.parse(r.started_at)) / 1000 : null;
  const longest = Math.max(...runs.map((r) => took(r) ?? 0), 1);
  return (
    <table className="mt-1 w-full border-collapse">
      <thead>
        <tr>
          <th className="py-1">ended</th>
          <th>state</th>
          <th className="num">took</th>
          <td />
          <th className="num">rows</th>
          <th className="num">size</th>
        </tr>
      </thead>
      <tbody>
        {runs.slice(0, 10).map((r) => (
          <tr key={r.id} className="h-[25px]" title={r.message}>
            <td>{time(r.ended_at ?? r.heard_at, zone, "short")}</td>
            <td className={r.state === "failed" ? "font-semibold text-verm" : ""}>
              {r.state}
              {r.message && <span className="text-ink2">: {r.message}</span>}
            </td>
            <td className="num">{took(r) === null ? "–" : duration(took(r)!)}</td>
            <td className="w-[90px] pl-2">
              <i
                className="block h-[7px] bg-pewter-line"
                style={{ width: `${((took(r) ?? 0) / longest) * 100}%` }}
              />
            </td>
            <td className="num">{number(r.rows)}</td>
            <td className="num">{bytes(r.bytes)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Columns({ versions, zone }: { versions: ColumnVersion[]; zone: string }) {
  const changed = new Map(
    versions.flatMap((v) => v.changes.map((c) => [c.column, { ...c, at: v.seen_at }] as const)).reverse(),
  );
  return (
    <>
      <table className="mt-1 w-full border-collapse">
        <tbody>
          {versions[0].columns.map((c) => (
            <tr key={c.name} className="h-[23px]">
              <td>
                <code>{c.name}</code>
              </td>
              <td className="text-ink2">{c.type.replace("timestamp with time zone", "timestamptz")}</td>
              <td className="text-ink2">{c.nullable ? "" : "never null"}</td>
              <td className="text-brass-text">
                {changed.has(c.name) &&
                  `${changed.get(c.name)!.what} ${time(changed.get(c.name)!.at, zone, "short")}`}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {versions.length > 1 ? (
        <ul className="mt-2 text-[13px] text-ink2">
          {versions.slice(0, -1).map((v) => (
            <li key={v.seen_at}>
              {time(v.seen_at, zone)}:{" "}
              {v.changes
                .map((c) =>
                  c.what === "retyped" ? `${c.column} is ${c.is}, was ${c.was}` : `${c.column} ${c.what}`,
                )
                .join("; ")}
            </li>
          ))}
        </ul>
      ) : (
        <p className="mt-2 text-[13px] text-ink2">
          Unchanged since {time(versions[0].seen_at, zone)}, when they were first looked at.
        </p>
      )}
    </>
  );
}

function Deliveries({ list, zone }: { list: Delivery[]; zone: string }) {
  return (
    <table className="mt-1 w-full border-collapse">
      <thead>
        <tr>
          <th className="py-1">landed</th>
          <th>file</th>
          <th>segment</th>
          <th className="num">rows</th>
          <th className="num">size</th>
          <th className="num pr-6">per row</th>
          <th>state</th>
        </tr>
      </thead>
      <tbody>
        {list.slice(0, 20).map((d) => (
          <tr key={d.id} className="h-[25px]">
            <td>{time(d.landed_at, zone, "short")}</td>
            <td>
              <code>{d.path}</code>
            </td>
            <td>{d.segment}</td>
            <td className="num">{number(d.rows)}</td>
            <td className="num">{bytes(d.bytes)}</td>
            <td className="num pr-6">{d.rows ? bytes(d.bytes / d.rows) : "–"}</td>
            <td
              className={
                d.state === "broken" || d.state === "doubled" ? "font-semibold text-verm" : "text-ink2"
              }
            >
              {d.state}
              {d.message && `: ${d.message}`}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
