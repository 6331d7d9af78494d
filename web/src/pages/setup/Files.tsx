import { useState } from "react";
import { Link } from "react-router";
import type { NewMetric, FileSet } from "../../api/client";
import { useMe } from "../../api/queries";
import { type Plan, useFiles, useMeasure } from "../../api/setup";
import { Choice, Pick, Setting } from "../../parts/Controls";
import { Reading, Section, Trouble } from "../../parts/Page";
import { bytes, count, number, time } from "../../parts/words";
import { First } from "./First";
import { pasts, Period, short } from "./MeasureTable";
import { Button, Refusal, field } from "../../parts/Form";
import { cx } from "../../parts/cx";

/** What has landed in a folder, put together by how it lies there. */
export function Files({ source }: { source: string }) {
  const files = useFiles(source);
  const [chosen, choose] = useState<string>();
  const proposal = files.data?.find((p) => p.pattern === chosen);
  return (
    <Section
      className="mt-6"
      title={`Files in ${source}`}
      note="put together by how they lie: * is what differs, {part} what names a segment"
    >
      <Trouble what="Files" error={files.error} />
      {files.isPending && <Reading what="files" />}
      {files.data?.length === 0 && (
        <p className="mt-2 text-ink2">
          Nothing has landed yet. Names that begin with a dot or an underscore, or end in .tmp or .part, count
          as unfinished.
        </p>
      )}
      {(files.data?.length ?? 0) > 0 && (
        <table className="mt-1 w-full border-collapse">
          <thead>
            <tr>
              <th className="py-1">pattern</th>
              <th className="num">files</th>
              <th className="num pr-6">bytes</th>
              <th>newest</th>
              <th>for example</th>
              <th>dataset</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {files.data!.map((p) => (
              <tr key={p.pattern} className="h-[27px]">
                <td className={chosen === p.pattern ? "font-bold" : ""}>
                  <code>{p.pattern}</code>
                </td>
                <td className="num">{number(p.files)}</td>
                <td className="num pr-6">{bytes(p.bytes)}</td>
                <td className="whitespace-nowrap">{time(p.newest, "UTC", "short")} UTC</td>
                <td className="max-w-[360px] truncate">
                  <code>{p.example}</code>
                </td>
                <td>
                  {p.dataset ? (
                    <Link to={`/datasets/${p.dataset}`}>
                      <code>{p.dataset}</code>
                    </Link>
                  ) : (
                    <span className="text-ink3">none yet</span>
                  )}
                </td>
                <td className="num">
                  <Button look="text" onClick={() => choose(chosen === p.pattern ? undefined : p.pattern)}>
                    {chosen === p.pattern ? "close" : "measure"}
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {proposal && <MeasureFiles key={proposal.pattern} source={source} proposal={proposal} />}
    </Section>
  );
}

const measures = [
  ["deliveries", "files"],
  ["rows", "rows"],
  ["bytes", "bytes"],
  ["bytes_per_row", "bytes per row"],
  ["freshness", "freshness"],
] as const;
const dimensions = (pattern: string) => [...pattern.matchAll(/\{(\w+)\}/g)].map((m) => m[1]);

/** From files to their first chart. */
function MeasureFiles({ source, proposal }: { source: string; proposal: FileSet }) {
  const me = useMe();
  const [name, setName] = useState(
    proposal.dataset ||
      `${source}.${
        proposal.pattern
          .split("/")[0]
          .replace(/[^A-Za-z]+/g, "_")
          .replace(/^_|_$/g, "") || "files"
      }`,
  );
  const [pattern, setPattern] = useState(proposal.pattern);
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone);
  const [owner, setOwner] = useState("");
  const [period, setPeriod] = useState<string>("86400");
  const [past, setPast] = useState<string>("16");
  const [chosen, choose] = useState<string[]>(["deliveries", "rows", "freshness"]);
  const measure = useMeasure();
  const known = proposal.dataset !== "" && name === proposal.dataset;
  const [segment, setSegment] = useState(dimensions(pattern)[0] ?? "");
  const by = dimensions(pattern).includes(segment) ? [segment] : undefined;
  const seconds = Number(period);
  const plan: Plan = {
    dataset: { source, name, owner, zone, pattern },
    known,
    since_seconds: Number(past) * 7 * 86400,
    metrics: chosen.map((what): NewMetric => ({
      dataset: name,
      name: `${short(name)}-files-${what.replaceAll("_", "-")}`,
      measure: what as NewMetric["measure"],
      segment_by: by,
      period_seconds: seconds,
      every_seconds: 60,
      lookback_seconds: 2 * seconds,
      settle_seconds: what === "freshness" ? 0 : 600,
    })),
  };
  return (
    <div
      className={cx(
        "mt-3 grid max-lg:grid-cols-1 grid-cols-[320px_minmax(0,1fr)] gap-8 border-t",
        "border-rule pt-3",
      )}
    >
      <div>
        <Setting name="Dataset">
          <input
            aria-label="Dataset"
            className={field}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Setting>
        <Setting name="Which files">
          <input
            aria-label="Pattern"
            className={`${field} font-mono text-[12.5px]`}
            spellCheck={false}
            disabled={known}
            value={pattern}
            onChange={(e) => setPattern(e.target.value)}
          />
        </Setting>
        <Setting name="One series for each">
          <Pick
            name="Segment"
            value={by ? segment : "none"}
            options={[["none", "all files together"], ...dimensions(pattern).map((d) => [d, d] as const)]}
            onChange={(v) => setSegment(v === "none" ? "" : v)}
          />
        </Setting>
        <Period value={period} onChange={setPeriod} onPast={setPast} />
        <Setting name="Its past">
          <Choice name="Past" value={past} options={pasts} onChange={setPast} />
        </Setting>
        <Setting name="Time zone of its days">
          <input
            aria-label="Time zone"
            className={field}
            value={zone}
            disabled={known}
            onChange={(e) => setZone(e.target.value)}
          />
        </Setting>
        <Setting name="Owner">
          <input
            aria-label="Owner"
            className={field}
            placeholder="team that looks after it"
            value={owner}
            disabled={known}
            onChange={(e) => setOwner(e.target.value)}
          />
        </Setting>
        <Button
          disabled={chosen.length === 0 || name === "" || measure.isPending || !me.data}
          onClick={() => measure.mutate(plan)}
          look="primary"
          className="mt-4"
        >
          Measure {count(chosen.length, "metric")}, and the past
        </Button>
        <Refusal error={measure.error} className="mt-2" />
      </div>
      <div>
        <Section
          title="What to measure"
          note={`of ${count(proposal.files, "file")}; time is when a file landed`}
        >
          <div className="mt-2 flex flex-wrap gap-x-5 gap-y-[6px]">
            {measures.map(([key, label]) => (
              <label key={key} className="flex items-center gap-2">
                <input
                  type="checkbox"
                  checked={chosen.includes(key)}
                  onChange={() =>
                    choose(chosen.includes(key) ? chosen.filter((k) => k !== key) : [...chosen, key])
                  }
                  className="accent-[var(--ink)]"
                />
                {label}
              </label>
            ))}
          </div>
        </Section>
        {measure.data && <First table={name} task={measure.data.task_id} />}
      </div>
    </div>
  );
}
