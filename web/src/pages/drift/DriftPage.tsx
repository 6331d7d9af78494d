import { Dialog } from "radix-ui";
import { type FormEvent, useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { useDriftPeriod, useMatrix, useMoveReference, useRunComparison } from "../../api/drift";
import { useTasks } from "../../api/setup";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { count } from "../../parts/words";
import { FeaturePanel } from "./FeaturePanel";
import { Legend, MatrixGrid } from "./MatrixGrid";
import { ModelView } from "./ModelView";
import { PairsView } from "./PairsView";
import { days } from "./says";
import { Button, Field, Form } from "../../parts/Form";
import { cx } from "../../parts/cx";
import { Sure } from "../../parts/Ask";

const views = [
  ["", "features"],
  ["pairs", "pairs"],
  ["models", "model"],
] as const;
const spans = [
  ["28", "4 weeks"],
  ["56", "8 weeks"],
  ["", "60 periods"],
  ["36500", "all"],
] as const;

/**
 * A comparison: features by period, and of the framed cell the distributions. The frame is in the address.
 */
export function DriftPage() {
  const { name = "" } = useParams();
  const go = useNavigate();
  const [search, setSearch] = useSearchParams();
  const put = (change: Record<string, string>) => {
    const next = new URLSearchParams(search);
    for (const [k, v] of Object.entries(change))
      if (v) next.set(k, v);
      else next.delete(k);
    setSearch(next, { replace: true });
  };
  const span = search.get("days") ?? "",
    view = search.get("view") ?? "";
  const [since] = useState(Date.now);
  const from = span ? new Date(since - Number(span) * 86_400_000).toISOString() : undefined;
  const matrix = useMatrix(name, from);
  const run = useRunComparison();
  const tasks = useTasks();
  const [moving, setMoving] = useState(false);
  const m = matrix.data,
    periods = m?.periods ?? [],
    rows = m?.rows ?? [];
  const at = (list: unknown[], found: number, otherwise: number) =>
    found >= 0 ? found : Math.max(0, Math.min(otherwise, list.length - 1));
  const asked = Date.parse(search.get("at") ?? "");
  const column = at(
    periods,
    periods.findIndex((p) => Date.parse(p.from) <= asked && asked < Date.parse(p.to)),
    periods.length - 1,
  );
  const row = at(
    rows,
    rows.findIndex((r) => r.feature === search.get("feature")),
    0,
  );
  const frame = (r: number, c: number) =>
    rows[r] && periods[c] && put({ feature: rows[r].feature, at: periods[c].from });
  const step = (dr: number, dc: number) =>
    frame(
      Math.max(0, Math.min(rows.length - 1, row + dr)),
      Math.max(0, Math.min(periods.length - 1, column + dc)),
    );
  const here = periods[column];
  const period = useDriftPeriod(name, view === "pairs" ? here?.from : undefined);
  const toggle = (v: string) => put({ view: view === v ? "" : v });
  const keys = {
    ArrowLeft: { does: "period before", act: () => step(0, -1) },
    ArrowRight: { does: "next", act: () => step(0, 1) },
    ArrowUp: { does: "feature above", act: () => step(-1, 0) },
    ArrowDown: { does: "below", act: () => step(1, 0) },
    "2": { does: "pair two features", act: () => toggle("pairs") },
    M: { does: "model", act: () => toggle("models") },
    A: {
      does: "its alerts",
      act: () =>
        rows[row] &&
        go(
          "/alerts?" +
            new URLSearchParams({ monitor: `${name}-drift`, segment: rows[row].feature }).toString(),
        ),
    },
    B: { does: "new reference", act: () => setMoving(true) },
    R: { does: "run now", act: () => run.mutate({ name, all: false }) },
  };
  const settings = m?.settings;
  const task = tasks.data?.find((t) => t.id === m?.task_id && t.state === "running");
  const busy = run.isPending || task !== undefined;
  const against =
    m && m.referred.from > "1000" && !settings?.reference_days
      ? `against ${days(m.referred.from, m.referred.to, m.zone)}`
      : settings?.reference_days
        ? `against the ${settings.reference_days} days before each`
        : "";
  return (
    <Page
      place={
        m ? (
          <>
            <Link to="/drift" className="plain">
              Drift
            </Link>
            ,{" "}
            <Link to={`/datasets/${m.dataset}`} className="plain">
              <code>{m.dataset}</code>
            </Link>{" "}
            by {settings?.period}, {against}
          </>
        ) : (
          "Drift"
        )
      }
      keys={keys}
      sentence={m ? `${m.sentence}.` : ""}
      after={m?.detail}
    >
      <Trouble what={name} error={matrix.error ?? run.error} />
      {busy && (
        <p className="mt-2 text-ink2" role="status">
          Comparing{task && task.total > 0 ? `, ${Math.round((100 * task.done) / task.total)} % done` : ""};
          what was found before stands until then.
        </p>
      )}
      {matrix.isPending && <Reading what={name} />}
      {m?.state === "failed" && (
        <p role="alert" className="mt-3 border-t border-verm pt-2 text-verm">
          The last run failed: {m.message}. What was found before stays; it is tried again within the hour.
        </p>
      )}
      {m && (
        <div className="mt-3 flex items-center gap-5">
          {views.map(([v, label]) => (
            <button
              key={label}
              aria-pressed={view === v}
              className={view === v ? "border-b-2 border-brass-mark font-bold" : "text-ink2"}
              onClick={() => put({ view: v })}
            >
              {label}
            </button>
          ))}
          <span className="ml-auto flex gap-4 text-[13px]">
            {spans.map(([v, label]) => (
              <button
                key={label}
                aria-pressed={span === v}
                className={span === v ? "border-b-2 border-brass-mark font-bold" : "text-ink2"}
                onClick={() => put({ days: v })}
              >
                {label}
              </button>
            ))}
            <Button look="text" onClick={() => setMoving(true)}>
              new reference
            </Button>
            <Sure
              disabled={busy}
              title="Read and judge all periods anew"
              asks={"Read and judge all periods anew?"}
              says="All days are read from the source again, which may take a while."
              does="Recompute all"
              act={() => run.mutate({ name, all: true })}
            >
              recompute all
            </Sure>
            <a href={`/api/v1/drift/${encodeURIComponent(name)}/export`} download={`${name}.csv`}>
              CSV
            </a>
          </span>
        </div>
      )}
      {m && periods.length === 0 && (
        <p className="mt-4 text-ink2">
          No period to show{span ? " in this stretch" : ""}.{" "}
          {m.state === "new" ? "It is being computed." : ""}
        </p>
      )}
      {m && here && view === "" && (
        <div className="mt-2 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_360px] gap-[50px]">
          <Section
            title={`Features by ${settings?.period}`}
            note="cells over their limit carry the figure"
            right={
              `${here.over} of ${rows.length} ` +
              `over${here.state ? `, all together ${here.state}` : ""}, ` +
              `${days(here.from, here.to, m.zone)}`
            }
          >
            <Measured>
              {(width) => (
                <MatrixGrid
                  matrix={m}
                  frame={{ row, column }}
                  setFrame={(f) => frame(f.row, f.column)}
                  width={width}
                />
              )}
            </Measured>
            <Legend />
          </Section>
          {rows[row] && <FeaturePanel name={name} feature={rows[row].feature} at={here.from} />}
        </div>
      )}
      {m && here && view === "pairs" && period.data && (
        <PairsView
          name={name}
          at={here.from}
          features={rows.map((r) => r.feature)}
          pairs={period.data.found.pairs ?? []}
          message={period.data.found.message}
          rows={
            `${days(here.from, here.to, m.zone)}: a sample of ` +
            `${count(period.data.found.sample.rows, "row")} against ` +
            `${count(period.data.found.sample.reference_rows, "row")} (seed ` +
            `${period.data.found.sample.seed}); the rows are not kept.`
          }
        />
      )}
      {m && here && view === "models" && (
        <ModelView name={name} at={here.from} from={from} setAt={(p) => put({ at: p })} />
      )}
      {m && <MoveReference name={name} open={moving} setOpen={setMoving} />}
    </Page>
  );
}

/** Gives its children the width there is. */
function Measured({ children }: { children: (width: number) => React.ReactNode }) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => setWidth(Math.floor(entry.contentRect.width)));
    watch.observe(box.current!);
    return () => watch.disconnect();
  }, []);
  return (
    <div ref={box} className="mt-1">
      {width > 0 && children(width)}
    </div>
  );
}

/** Other days to start from; what was typed stays when it is refused. */
function MoveReference({
  name,
  open,
  setOpen,
}: {
  name: string;
  open: boolean;
  setOpen: (v: boolean) => void;
}) {
  const move = useMoveReference(name);
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget);
    move.mutate(
      { from: String(f.get("from")), to: String(f.get("to")) },
      { onSuccess: () => setOpen(false) },
    );
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ground opacity-80" />
        <Dialog.Content
          className={cx("fixed top-24 left-1/2 w-[420px] -translate-x-1/2 border border-ink", "bg-field p-6")}
        >
          <Dialog.Title className="text-[15px] font-[650]">New reference</Dialog.Title>
          <Dialog.Description className="mt-1 text-ink2">
            All periods are judged anew against these days; periods that touch them are not judged.
          </Dialog.Description>
          <Form error={move.error} className="mt-4 grid gap-3" onSubmit={submit}>
            <div className="flex items-center gap-2">
              from{" "}
              <Field label="First day" of="from">
                <input name="from" type="date" required className="border border-ink3 bg-field px-2 py-1" />
              </Field>{" "}
              to{" "}
              <Field label="Last day" of="to">
                <input name="to" type="date" required className="border border-ink3 bg-field px-2 py-1" />
              </Field>
            </div>
            <div className="flex gap-2">
              <Button type="submit" disabled={move.isPending} look="primary">
                Compare with these
              </Button>
              <Dialog.Close className="border border-ink px-3">Cancel</Dialog.Close>
            </div>
          </Form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
