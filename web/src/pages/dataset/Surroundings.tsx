import { useNavigate } from "react-router";
import type { ColumnVersion, Delivery, Lineage, Run } from "../../api/client";
import { useColumns, useDeliveries, useLineage, useRuns } from "../../api/queries";
import { Section } from "../../parts/Page";
import { bytes, count, duration, number, time } from "../../parts/words";

/** What a dataset hangs on: what it is made from, the runs that write it, its columns, the files that landed. */
export function Surroundings({ name, source, zone, files }: { name: string; source: string; zone: string; files: boolean }) {
  const lineage = useLineage(name), runs = useRuns(name), columns = useColumns(name), deliveries = useDeliveries(name, files);
  const graph = lineage.data && lineage.data.links!.length > 0 ? lineage.data : undefined;
  return (
    <>
      {graph && (
        <Section className="mt-5" title="Lineage" note="made from, at left; what is made from it, at right" right={count(graph.nodes!.length, "dataset")}>
          <Graph graph={graph} here={name} />
        </Section>
      )}
      <div className="mt-5 grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-8">
        <Section title="Runs" note="that wrote it, newest first" right={runs.data?.length ? failures(runs.data) : undefined}>
          {runs.data?.length ? <Runs runs={runs.data} zone={zone} /> : <p className="mt-2 text-ink2">No run was heard of. Send OpenLineage events to <code>/api/v1/lineage</code>.</p>}
        </Section>
        <Section title="Columns" note={`as ${source} has them`}>
          {columns.data?.length ? <Columns versions={columns.data} zone={zone} /> : <p className="mt-2 text-ink2">Not looked at yet.</p>}
        </Section>
      </div>
      {files && (
        <Section className="mt-5" title="Files" note="that landed, newest first">
          {deliveries.data?.length ? <Deliveries list={deliveries.data} zone={zone} /> : <p className="mt-2 text-ink2">No file has landed yet.</p>}
        </Section>
      )}
    </>
  );
}

const failures = (runs: Run[]) => {
  const bad = runs.filter((r) => r.state === "failed" || r.state === "aborted").length;
  return bad === 0 ? `none of the last ${runs.length} failed` : `${bad} of the last ${runs.length} failed`;
};

const box = { width: 190, height: 40, gapX: 96, gapY: 16 };

/** Datasets in columns by their distance, an arrow for each job between two. */
function Graph({ graph, here }: { graph: Lineage; here: string }) {
  const go = useNavigate();
  const depths = [...new Set(graph.nodes!.map((n) => n.depth))].sort((a, b) => a - b);
  const place = new Map<string, { x: number; y: number }>();
  const tallest = Math.max(...depths.map((d) => graph.nodes!.filter((n) => n.depth === d).length));
  const height = tallest * (box.height + box.gapY) - box.gapY + 4;
  for (const [i, d] of depths.entries()) {
    const column = graph.nodes!.filter((n) => n.depth === d);
    const top = (height - (column.length * (box.height + box.gapY) - box.gapY)) / 2;
    for (const [k, n] of column.entries()) place.set(n.name, { x: i * (box.width + box.gapX) + 1, y: top + k * (box.height + box.gapY) });
  }
  const width = depths.length * (box.width + box.gapX) - box.gapX + 2;
  return (
    <div className="mt-3 overflow-x-auto">
      <svg width={width} height={height} role="img" data-lineage aria-label={`${here} is made from and makes ${graph.nodes!.length - 1} other datasets`}>
        {graph.links!.map((l) => {
          const from = place.get(l.from), to = place.get(l.to);
          if (!from || !to) return null;
          const x1 = from.x + box.width, y1 = from.y + box.height / 2, x2 = to.x, y2 = to.y + box.height / 2, mid = (x1 + x2) / 2;
          return (
            <g key={l.from + l.to + l.job}>
              <path d={`M${x1} ${y1}C${mid} ${y1} ${mid} ${y2} ${x2 - 7} ${y2}`} fill="none" stroke="var(--pewter-line)" strokeWidth="1.3"><title>{l.job}</title></path>
              <path d={`M${x2 - 8} ${y2 - 4}L${x2} ${y2}L${x2 - 8} ${y2 + 4}Z`} fill="var(--pewter-line)" />
            </g>
          );
        })}
        {graph.nodes!.map((n) => {
          const at = place.get(n.name)!;
          const own = n.name === here;
          return (
            <g key={n.name} transform={`translate(${at.x},${at.y})`} className={n.watched && !own ? "cursor-pointer" : ""} onClick={() => n.watched && go(`/datasets/${n.name}`)}>
              <rect width={box.width} height={box.height} fill={own ? "var(--ink)" : n.worst === "critical" ? "var(--verm-wash)" : "var(--field)"} stroke={n.watched ? "var(--ink)" : "var(--ink3)"} strokeDasharray={n.watched ? undefined : "3 3"} />
              <text x={10} y={17} className="font-mono" style={{ fill: own ? "var(--ground)" : "var(--ink)", fontSize: 12.5 }}>{n.name.length > 23 ? `${n.name.slice(0, 22)}…` : n.name}</text>
              <text x={10} y={32} style={{ fill: own ? "var(--ground)" : n.worst ? "var(--verm)" : "var(--ink3)", fontSize: 11.5 }}>{n.watched ? n.worst ? `alert open: ${n.worst}` : "quiet" : "not watched"}</text>
            </g>
          );
        })}
      </svg>
    </div>
  );
}

function Runs({ runs, zone }: { runs: Run[]; zone: string }) {
  const took = (r: Run) => (r.started_at && r.ended_at ? (Date.parse(r.ended_at) - Date.parse(r.started_at)) / 1000 : null);
  const longest = Math.max(...runs.map((r) => took(r) ?? 0), 1);
  return (
    <table className="mt-1 w-full border-collapse">
      <thead><tr><th className="py-1">ended</th><th>state</th><th className="num">took</th><th /><th className="num">rows</th><th className="num">size</th></tr></thead>
      <tbody>
        {runs.slice(0, 10).map((r) => (
          <tr key={r.id} className="h-[25px]" title={r.message}>
            <td>{time(r.ended_at ?? r.heard_at, zone, "short")}</td>
            <td className={r.state === "failed" ? "font-semibold text-verm" : ""}>{r.state}{r.message && <span className="text-ink2">: {r.message}</span>}</td>
            <td className="num">{took(r) === null ? "–" : duration(took(r)!)}</td>
            <td className="w-[90px] pl-2"><i className="block h-[7px] bg-pewter-line" style={{ width: `${((took(r) ?? 0) / longest) * 100}%` }} /></td>
            <td className="num">{number(r.rows)}</td>
            <td className="num">{bytes(r.bytes)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Columns({ versions, zone }: { versions: ColumnVersion[]; zone: string }) {
  const changed = new Map(versions.flatMap((v) => v.changes!.map((c) => [c.column, { ...c, at: v.seen_at }] as const)).reverse());
  return (
    <>
      <table className="mt-1 w-full border-collapse">
        <tbody>
          {versions[0].columns!.map((c) => (
            <tr key={c.name} className="h-[23px]">
              <td><code>{c.name}</code></td>
              <td className="text-ink2">{c.type.replace("timestamp with time zone", "timestamptz")}</td>
              <td className="text-ink2">{c.nullable ? "" : "never null"}</td>
              <td className="text-brass-text">{changed.has(c.name) && `${changed.get(c.name)!.what} ${time(changed.get(c.name)!.at, zone, "short")}`}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {versions.length > 1 ? (
        <ul className="mt-2 text-[13px] text-ink2">
          {versions.slice(0, -1).map((v) => <li key={v.seen_at}>{time(v.seen_at, zone)}: {v.changes!.map((c) => (c.what === "retyped" ? `${c.column} is ${c.is}, was ${c.was}` : `${c.column} ${c.what}`)).join("; ")}</li>)}
        </ul>
      ) : <p className="mt-2 text-[13px] text-ink2">Unchanged since {time(versions[0].seen_at, zone)}, when they were first looked at.</p>}
    </>
  );
}

function Deliveries({ list, zone }: { list: Delivery[]; zone: string }) {
  return (
    <table className="mt-1 w-full border-collapse">
      <thead><tr><th className="py-1">landed</th><th>file</th><th>segment</th><th className="num">rows</th><th className="num">size</th><th className="num pr-6">per row</th><th>state</th></tr></thead>
      <tbody>
        {list.slice(0, 20).map((d) => (
          <tr key={d.id} className="h-[25px]">
            <td>{time(d.landed_at, zone, "short")}</td>
            <td><code>{d.path}</code></td>
            <td>{d.segment}</td>
            <td className="num">{number(d.rows)}</td>
            <td className="num">{bytes(d.bytes)}</td>
            <td className="num pr-6">{d.rows ? bytes(d.bytes / d.rows) : "–"}</td>
            <td className={d.state === "broken" || d.state === "doubled" ? "font-semibold text-verm" : "text-ink2"}>{d.state}{d.message && `: ${d.message}`}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
