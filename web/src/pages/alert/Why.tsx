import { useState } from "react";
import { Link } from "react-router";
import type { AlertDetail, Contribution, Contributor, Why as Reasons } from "../../api/client";
import { useMe, useRows, useWhy } from "../../api/queries";
import { LineageGraph } from "../../chart/LineageGraph";
import { Section } from "../../parts/Page";
import { count, duration, number, percent, signed, time, value } from "../../parts/words";
import { Button, Refusal } from "../../parts/Form";
import { cx } from "../../parts/cx";

/**
 * Why it rang: segments, company, stages, precedents, rows. Each part stands alone; what is missing says
 * why.
 */
export function Why({ alert: a }: { alert: AlertDetail }) {
  const why = useWhy(a.id);
  if (why.error)
    return (
      <Section className="mt-5" title="Why" note={why.error.message}>
        {null}
      </Section>
    );
  if (!why.data)
    return (
      <Section className="mt-5" title="Why" note="being found out">
        <div className="mt-2 h-[180px] bg-well" />
      </Section>
    );
  const w = why.data;
  return (
    <>
      <div className="mt-5 grid max-lg:grid-cols-1 grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-8" data-why>
        <Segments why={w} />
        <Company why={w} />
      </div>
      <Stages why={w} here={a.dataset} />
      <div className="mt-5 grid max-lg:grid-cols-1 grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-8">
        <Precedents why={w} />
        <Rows why={w} alert={a.id} />
      </div>
    </>
  );
}

const link = "underline decoration-pewter-line underline-offset-3";

/** Why a part is not there. */
const Missing = ({ why, part }: { why: Reasons; part: string }) => (
  <p className="mt-2 text-ink2">Not known: {why.missing[part]}.</p>
);

function Segments({ why }: { why: Reasons }) {
  const c = why.contribution;
  const [column, setColumn] = useState(0);
  if (!c)
    return (
      <Section title="Segments behind it">
        <Missing why={why} part="contribution" />
      </Section>
    );
  const by = c.by[Math.min(column, c.by.length - 1)];
  return (
    <Section
      title="Segments behind it"
      note={`against the same hours of ${count(c.weeks, "earlier week")}`}
      right={c.sampled < 1 ? `from ${percent(c.sampled)} of the rows` : undefined}
    >
      {c.parts.length === 0 && <p className="mt-2">No segment stands out from the others.</p>}
      {c.parts.map((p) => (
        <p key={p.says} className="mt-2">
          <b className="font-[650]">{p.says}</b>{" "}
          <span className="text-ink2">
            {percent(p.share)} of all that {c.way}
          </span>
        </p>
      ))}
      {by && (
        <>
          <p className="mt-2 text-[13px] text-ink2">
            by{" "}
            {c.by.map((b, i) => (
              <button
                key={b.column}
                aria-pressed={b === by}
                onClick={() => setColumn(i)}
                className={`mr-3 ${b === by ? "font-[650] text-ink" : link}`}
              >
                {b.column}
              </button>
            ))}
          </p>
          <Bars c={c} values={by.values} />
          {(c.measure === "share" || c.measure === "mean") && c.observed !== c.expected && (
            <p className="mt-1 text-[13px] text-ink2">
              {percent(by.rate / (c.observed - c.expected))} of the change is in the values' own figures,{" "}
              {percent(by.mix / (c.observed - c.expected))} in how rows are spread over them.
            </p>
          )}
        </>
      )}
    </Section>
  );
}

/** For each value what was expected (outline) and what came (filled), the largest contribution first. */
function Bars({ c, values }: { c: Contribution; values: Contributor[] }) {
  const most = Math.max(...values.map((v) => Math.max(Math.abs(v.observed), Math.abs(v.expected))), 1e-12);
  const kind = c.measure === "share" ? "share" : "count";
  const wide = 210;
  return (
    <table className="mt-1 w-full border-collapse">
      <thead>
        <tr>
          <th className="py-1">value</th>
          <th>came, of what was expected</th>
          <th className="num">came</th>
          <th className="num">expected</th>
          <th className="num">of all that {c.way}</th>
        </tr>
      </thead>
      <tbody>
        {values.map((v) => {
          const off = Math.abs(v.z) >= 4;
          return (
            <tr key={v.tags[0].value} className="h-[25px]">
              <td className={off ? "font-[650]" : ""}>{v.tags[0].value}</td>
              <td>
                <svg width={wide + 2} height={15} aria-hidden>
                  <rect
                    x="0.5"
                    y="2.5"
                    width={Math.max((Math.abs(v.expected) / most) * wide, 0.5)}
                    height="10"
                    fill="none"
                    stroke="var(--pewter-line)"
                  />
                  <rect
                    x="0.5"
                    y="4.5"
                    width={Math.max((Math.abs(v.observed) / most) * wide, 0.5)}
                    height="6"
                    fill={off ? "var(--verm-mark)" : "var(--pewter2)"}
                  />
                </svg>
              </td>
              <td className="num">{value(v.observed, kind)}</td>
              <td className="num text-ink2">{value(v.expected, kind)}</td>
              <td className="num">{v.share > 0 ? percent(v.share) : "–"}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Company({ why }: { why: Reasons }) {
  const t = why.together;
  if (!t)
    return (
      <Section title="Broke with it">
        <Missing why={why} part="together" />
      </Section>
    );
  return (
    <Section title="Broke with it" note={`${t.broken} of ${number(t.series)} series broke in these hours`}>
      {t.shared.map((s) => (
        <p key={s.column + s.value} className="mt-2">
          <b className="font-[650]">
            {s.column} = {s.value}
          </b>
          : {s.broken} of {s.broken + s.sound} broke;{" "}
          <span className="text-ink2">
            elsewhere {s.other_broken} of {s.other_broken + s.other_sound}
          </span>
        </p>
      ))}
      {t.most.length === 0 ? (
        <p className="mt-2 text-ink2">Nothing else broke.</p>
      ) : (
        <table className="mt-1 w-full border-collapse">
          <thead>
            <tr>
              <th className="py-1">series</th>
              <th className="num">now</th>
              <th className="num">usually</th>
              <th className="num">off</th>
            </tr>
          </thead>
          <tbody>
            {t.most.map((b) => (
              <tr key={b.series_id} className="h-[25px]">
                <td>
                  <Link to={`/series/${b.series_id}`}>{b.segment || b.metric}</Link>{" "}
                  <span className="text-ink2">{b.segment ? b.metric : ""}</span>
                  {b.alert > 0 && (
                    <Link className="ml-2 text-verm" to={`/alerts/${b.alert}`}>
                      rang
                    </Link>
                  )}
                </td>
                <td className="num">{value(b.now, b.kind)}</td>
                <td className="num text-ink2">{value(b.usual, b.kind)}</td>
                <td className="num">{signed(b.z)} σ</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {t.skipped > 0 && (
        <p className="mt-1 text-[13px] text-ink2">{number(t.skipped)} more series were not compared.</p>
      )}
    </Section>
  );
}

function Stages({ why, here }: { why: Reasons; here: string }) {
  const s = why.lineage;
  if (!s)
    return (
      <Section className="mt-5" title="Upstream and downstream">
        <Missing why={why} part="lineage" />
      </Section>
    );
  const nodes = s.nodes.map((n) => ({
    ...n,
    broken: n.since !== null,
    first: n.name === s.first,
    says: n.since ? `broken since ${time(n.since, why.zone, "short")}` : n.watched ? "sound" : "not watched",
  }));
  const owners = [...new Set(s.hit.map((h) => h.owner).filter(Boolean))];
  return (
    <Section
      className="mt-5"
      title="Upstream and downstream"
      note={
        <>
          the flag marks where it broke first
          {s.first && (
            <>
              : <code>{s.first}</code>
            </>
          )}
        </>
      }
      right={owners.length > 0 && `made from it: ${count(s.hit.length, "dataset")} of ${owners.join(", ")}`}
    >
      <LineageGraph here={here} nodes={nodes} links={s.links} />
      <ul className="mt-1 text-[13px] text-ink2">
        {s.runs.map((r, i) => (
          <li key={i}>
            <b className="text-ink">{r.job}</b>, which writes <code>{r.dataset}</code>: {r.says}
            {r.at && `, ${time(r.at, why.zone, "short")}`}
          </li>
        ))}
        {s.columns.map((c, i) => (
          <li key={i}>
            columns of <code>{c.dataset}</code> changed {time(c.at, why.zone, "short")}: {c.says}
          </li>
        ))}
        {s.runs.length === 0 && s.columns.length === 0 && (
          <li>
            No run upstream failed, took much longer or moved far fewer rows than usual; no columns changed.
          </li>
        )}
      </ul>
    </Section>
  );
}

function Precedents({ why }: { why: Reasons }) {
  return (
    <Section title="Seen before" note="the most alike faults, and what they turned out to be">
      {why.missing.before ? (
        <p className="mt-2 text-ink2">Not known: {why.missing.before}.</p>
      ) : (
        why.before.map((p) => (
          <div key={p.reference + p.alert} className="border-b border-hair py-[5px]">
            {p.alert ? (
              <Link to={`/alerts/${p.alert}`}>{p.title}</Link>
            ) : (
              <Link to={`/incidents?find=${encodeURIComponent(p.reference)}`}>{p.title}</Link>
            )}
            <div className="text-[13px] text-ink2">
              {time(p.started_at, why.zone)}
              {p.cause && (
                <>
                  , <b className="text-ink">{p.cause}</b>
                </>
              )}
              {p.seconds > 0 && `, took ${duration(p.seconds)}`}; {p.alike.join(", ")}
            </div>
          </div>
        ))
      )}
    </Section>
  );
}

function Rows({ why, alert }: { why: Reasons; alert: number }) {
  const me = useMe();
  const rows = useRows(alert);
  const [chosen, setChosen] = useState(0);
  const [copied, setCopied] = useState(false);
  if (why.missing.listings)
    return (
      <Section title="Rows">
        <Missing why={why} part="listings" />
      </Section>
    );
  const list = why.listings;
  const one = list[Math.min(chosen, list.length - 1)];
  if (!one) return null;
  const may = me.data && me.data.role !== "reader";
  return (
    <Section title="Rows" note="read from the warehouse, never kept; the audit trail says who looked">
      <p className="mt-2 text-[13px] text-ink2">
        {list.map((l, i) => (
          <button
            key={l.name}
            aria-pressed={l === one}
            onClick={() => {
              setChosen(i);
              rows.reset();
              setCopied(false);
            }}
            className={`mr-3 ${l === one ? "font-[650] text-ink" : link}`}
          >
            {l.title}
          </button>
        ))}
      </p>
      <pre
        tabIndex={0}
        className={cx(
          "mt-2 max-h-[170px] overflow-auto bg-well p-2 text-[12.5px] leading-[17px]",
          "whitespace-pre-wrap",
        )}
      >
        {one.sql}
      </pre>
      <p className="mt-1 flex gap-4">
        <Button
          look="text"
          onClick={() => navigator.clipboard.writeText(one.sql).then(() => setCopied(true))}
        >
          {copied ? "copied" : "copy"}
        </Button>
        {may && (
          <Button look="text" disabled={rows.isPending} onClick={() => rows.mutate(one.name)}>
            {rows.isPending ? "reading" : "show 100 rows here"}
          </Button>
        )}
      </p>
      <Refusal error={rows.error} className="mt-1" />
      {rows.data && (
        <div className="mt-2 max-h-[300px] overflow-auto">
          <table className="w-full border-collapse">
            <thead className="sticky top-0 bg-ground">
              <tr>
                {rows.data.columns.map((c) => (
                  <th key={c} className="pr-3">
                    {c}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.data.rows.map((r, i) => (
                <tr key={i} className="h-[23px]">
                  {r.map((v, k) => (
                    <td key={k} className="pr-3 whitespace-nowrap">
                      {v}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          <p className="mt-1 text-[13px] text-ink2">
            {rows.data.rows.length === 0
              ? "There is no such row."
              : `${count(rows.data.rows.length, "row")}${rows.data.more ? "; there are more" : ""}. ` +
                "Gone when you leave this page."}
          </p>
        </div>
      )}
    </Section>
  );
}
