import { type FormEvent, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Comparison, ComparisonSummary, NewComparison } from "../../api/client";
import { useComparisons, useDropComparison, useProposeComparison, useSetComparison } from "../../api/drift";
import { useHealthNames } from "../../api/telling";
import { Mark } from "../../parts/Mark";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { count, number, word } from "../../parts/words";
import { days } from "./says";
import { Button, Field, Form, field } from "../../parts/Form";
import { Option, Select } from "../../parts/Select";
import { cx } from "../../parts/cx";
import { Sure } from "../../parts/Ask";
import { Term } from "../../parts/Term";

function sentence(list: ComparisonSummary[]): string {
  if (list.length === 0) return "Nothing is compared yet: say which rows should stay as they were.";
  const drifted = list.filter((c) => (c.last?.found.over ?? 0) > 0);
  if (drifted.length === 0) return `Nothing has drifted in ${count(list.length, "comparison")}.`;
  const who =
    drifted.length < list.length
      ? `${word(drifted.length)} of ${count(list.length, "comparison")}`
      : list.length === 1
        ? "The one comparison"
        : list.length === 2
          ? "Both comparisons"
          : `All ${list.length} comparisons`;
  return `${who} ${drifted.length === 1 ? "has" : "have"} drifted: ${drifted.map((c) => c.name).join(", ")}.`;
}

/** All comparisons: what is compared with what, and what the last periods showed. */
export function DriftsPage() {
  const all = useComparisons();
  const drop = useDropComparison();
  const list = all.data ?? [];
  const [adding, setAdding] = useState(false);
  return (
    <Page
      place="Drift"
      keys={{ A: { does: "add", act: () => setAdding(true) } }}
      sentence={all.data ? sentence(list) : ""}
      after={
        "Each day, week or month of data against a reference: every feature, pairs of " +
        "them, all together, and a model's versions."
      }
    >
      <Trouble what="Comparisons" error={all.error ?? drop.error} />
      {all.isPending && <Reading what="comparisons" />}
      <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_340px] gap-8">
        <Section title="Comparisons" note="how their last periods stand">
          {list.map((c) => {
            const found = c.last?.found,
              s = found?.separability;
            return (
              <article
                key={c.name}
                data-comparison={c.name}
                className={cx(
                  "grid gap-4 border-b max-md:gap-1 md:grid-cols-[120px_minmax(0,1fr)_150px_190px]",
                  "border-rule py-[10px] last:border-0",
                )}
              >
                <div>
                  {c.state === "failed" ? (
                    <Mark state="failed" />
                  ) : !found ? (
                    <Mark state="waiting" word="computing" />
                  ) : found.over > 0 ? (
                    <Mark state="critical" word="drifted" />
                  ) : (
                    <Mark state="not due" word="as expected" />
                  )}
                </div>
                <div>
                  <Link to={`/drift/${encodeURIComponent(c.name)}`} className="text-[15px] font-[650]">
                    {c.name}
                  </Link>
                  : {c.sentence}.
                  <div className="mt-[2px] text-ink2">
                    <Link to={`/datasets/${c.dataset}`}>
                      <code>{c.dataset}</code>
                    </Link>{" "}
                    by {c.settings.period}
                    {c.settings.score && `, model answer ${c.settings.score}`};{" "}
                    {count(c.features.filter((f) => !f.why).length, "feature")},{" "}
                    {count(c.periods, c.settings.period)}
                    <Sure
                      className="ml-4"
                      asks={`Remove ${c.name}?`}
                      says="What was compared goes. Its series and their alerts stay."
                      does="Remove it"
                      act={() => drop.mutate(c.name)}
                    >
                      remove
                    </Sure>
                  </div>
                </div>
                <Overs
                  over={c.over}
                  of={c.features.filter((f) => !f.why).length}
                  period={c.settings.period}
                />
                <div className="text-[13px] text-ink2">
                  {c.last && found && (
                    <>
                      {days(c.last.from, c.last.to, c.zone)}, {number(found.rows)} rows
                      {s && (
                        <>
                          <br />
                          <Term is="separability">separability</Term>{" "}
                          <b className={s.score > s.limit ? "text-verm" : "text-ink"}>{s.score.toFixed(2)}</b>
                          , limit {s.limit.toFixed(2)}
                        </>
                      )}
                    </>
                  )}
                </div>
              </article>
            );
          })}
          {all.data && list.length === 0 && (
            <p className="mt-2 text-ink2">
              For example: the features that a model is given, week by week, against the weeks it was trained
              on. Two files can be compared without the service:{" "}
              <code>tinbell drift compare reference.csv october.parquet</code>
            </p>
          )}
        </Section>
        <Add open={adding || (all.data !== undefined && list.length === 0)} setOpen={setAdding} />
      </div>
    </Page>
  );
}

/** How many features were over their limits in each of the last periods, oldest left. */
function Overs({ over, of, period }: { over: number[]; of: number; period: string }) {
  const step = Math.min(8, 140 / Math.max(over.length, 1)),
    last = over[over.length - 1] ?? 0;
  if (over.length === 0) return <div />;
  return (
    <svg
      width="146"
      height="40"
      role="img"
      aria-label={`${last} of ${of} features over their limits in the last ${period}`}
    >
      {over.map((n, i) => (
        <rect
          key={i}
          x={i * step}
          width={Math.max(step - 1, 1)}
          y={26 - Math.max((24 * n) / Math.max(of, 1), n ? 3 : 1)}
          height={Math.max((24 * n) / Math.max(of, 1), n ? 3 : 1)}
          fill={n ? "var(--verm-mark)" : "var(--pewter2)"}
        >
          <title>{`${n} of ${of} over`}</title>
        </rect>
      ))}
      <text x="0" y="39">
        over, {count(over.length, period)}
      </text>
    </svg>
  );
}

/** A new comparison: first what would be compared, then yes. */
function Add({ open, setOpen }: { open: boolean; setOpen: (v: boolean) => void }) {
  const set = useSetComparison(),
    propose = useProposeComparison(),
    datasets = useHealthNames(),
    go = useNavigate();
  const [proposed, setProposed] = useState<Comparison | null>(null);
  const [out, setOut] = useState<string[]>([]);
  const read = (form: HTMLFormElement): NewComparison => {
    const f = new FormData(form),
      text = (k: string) => String(f.get(k) ?? "").trim() || undefined,
      number_ = (k: string) => (text(k) ? Number(text(k)) : undefined);
    return {
      name: text("name") ?? "",
      dataset: text("dataset") ?? "",
      time_column: text("time_column"),
      period: (text("period") ?? "week") as "week",
      score: text("score"),
      version: text("version"),
      outcome: text("outcome"),
      reference_days: number_("reference_days"),
      reference_from: text("reference_from"),
      reference_to: text("reference_to"),
      reference_dataset: text("reference_dataset"),
      reference_query: text("reference_query"),
      query: text("query"),
      key: text("key"),
      threshold: number_("threshold"),
      accept: number_("accept"),
      sample_rows: number_("sample_rows"),
      leave_out: out,
    };
  };
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const body = read(e.currentTarget);
    if (proposed) set.mutate(body, { onSuccess: (c) => go(`/drift/${encodeURIComponent(c.name)}`) });
    else propose.mutate(body, { onSuccess: (c) => setProposed(c) });
  };
  if (!open)
    return (
      <Section title="Add a comparison">
        <Button className="mt-2" onClick={() => setOpen(true)}>
          Add
        </Button>
      </Section>
    );
  return (
    <Section title="Add a comparison" note="the first 28 days are the reference if none is named">
      <Form
        error={set.error ?? propose.error}
        className="mt-2 grid gap-2"
        aria-label="new comparison"
        onSubmit={submit}
        onChange={() => set.reset()}
      >
        <Field label="Name" of="name">
          <input name="name" required className={field} placeholder="noshow" />
        </Field>
        <Field label="Dataset" of="dataset">
          <Select name="dataset" required className="w-full" onChange={() => setProposed(null)}>
            {datasets.map((d) => (
              <Option key={d}>{d}</Option>
            ))}
          </Select>
        </Field>
        <Field label="Time column" help="With each row’s time." of="time_column">
          <input name="time_column" className={field} />
        </Field>
        <div className="flex items-center gap-2">
          by{" "}
          <Field label="Period" of="period">
            <Select name="period" defaultValue="week" className="w-full">
              <Option>day</Option>
              <Option>week</Option>
              <Option>month</Option>
            </Select>
          </Field>
        </div>
        <Field
          label="Moving reference"
          help="So many days before each period; empty is the fixed reference."
          of="reference_days"
        >
          <input name="reference_days" type="number" min="1" className={field} />
        </Field>
        <Field label="Score" help="The column of a model’s score, if there is one." of="score">
          <input name="score" className={field} />
        </Field>
        <div className="flex gap-2">
          <Field label="Version" help="The column of the model’s version." of="version">
            <input name="version" className={field} />
          </Field>
          <Field label="Outcome" help="The column of what came true." of="outcome">
            <input name="outcome" className={field} />
          </Field>
        </div>
        <details>
          <summary className="cursor-pointer py-1 text-ink2">
            other references, rows of a query, limits
          </summary>
          <div className="mt-1 grid gap-2">
            <div className="flex items-center gap-2 text-[13px]">
              reference{" "}
              <Field label="First day of the reference" of="reference_from">
                <input name="reference_from" type="date" className={field} />
              </Field>{" "}
              to{" "}
              <Field label="Last day of the reference" of="reference_to">
                <input name="reference_to" type="date" className={field} />
              </Field>
            </div>
            <Field label="Reference dataset" of="reference_dataset">
              <Select name="reference_dataset" className="w-full">
                <Option value="">the reference is of the same dataset</Option>
                {datasets.map((d) => (
                  <Option key={d}>{d}</Option>
                ))}
              </Select>
            </Field>
            <Field label="Reference query" help="Its rows are the reference." of="reference_query">
              <input name="reference_query" className={`${field} mono`} placeholder="select …" />
            </Field>
            <Field label="Query" help="Its rows are compared." of="query">
              <input name="query" className={`${field} mono`} placeholder="select …" />
            </Field>
            <div className="flex gap-2">
              <Field label="Key" help="The column that names the case scored." of="key">
                <input name="key" className={field} />
              </Field>
              <Field label="Threshold" of="threshold">
                <input name="threshold" type="number" step="any" className={field} placeholder="0.5" />
              </Field>
            </div>
            <div className="flex gap-2">
              <Field label="Stated share" help="How often a clean comparison may be flagged." of="accept">
                <input
                  name="accept"
                  type="number"
                  step="any"
                  min="0"
                  max="0.1"
                  className={field}
                  placeholder="0.001"
                />
              </Field>
              <Field label="Sampled rows" help="Rows of each period that are looked at." of="sample_rows">
                <input
                  name="sample_rows"
                  type="number"
                  min="200"
                  max="50000"
                  className={field}
                  placeholder="3000"
                />
              </Field>
            </div>
          </div>
        </details>
        {proposed && (
          <fieldset className="mt-1 border-t border-rule pt-2">
            <legend className="sr-only">features</legend>
            {proposed.features.map((f) => (
              <label key={f.name} className="flex items-baseline gap-2 py-[1px]">
                <input
                  type="checkbox"
                  disabled={!!f.why && !out.includes(f.name)}
                  checked={!f.why && !out.includes(f.name)}
                  onChange={(e) =>
                    setOut(e.target.checked ? out.filter((n) => n !== f.name) : [...out, f.name])
                  }
                />
                <code>{f.name}</code>
                <span className="text-[13px] text-ink2">
                  {f.why || (f.role === "score" ? "the model's answer" : f.kind)}
                </span>
              </label>
            ))}
          </fieldset>
        )}
        <div className="flex gap-2">
          <Button type="submit" disabled={set.isPending || propose.isPending} look="primary">
            {proposed ? "Compare these" : "Look at its columns"}
          </Button>
          <Button
            onClick={() => {
              setOpen(false);
              setProposed(null);
            }}
          >
            Close
          </Button>
        </div>
      </Form>
    </Section>
  );
}
