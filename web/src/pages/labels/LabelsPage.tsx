import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Alert, Question, Verdict } from "../../api/client";
import { useHeld, useQuestions } from "../../api/learning";
import { useChart, useLabel, useNow } from "../../api/queries";
import { useWidth } from "../../chart/width";
import { SmallChart } from "../../chart/Small";
import { Key } from "../../parts/keys";
import { Mark } from "../../parts/Mark";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { count, percent, rarity, time } from "../../parts/words";
import { Button, Refusal } from "../../parts/Form";
import { cx } from "../../parts/cx";
import { outdate } from "../../api/keys";
import { OfThePast } from "./OfThePast";
import { wider } from "../../parts/period";

const hour = 3_600_000,
  day = 24 * hour;

interface Answered {
  alert: Alert;
  verdict: Verdict;
  all: number[];
}

const means: Record<Verdict, string> = {
  fault: "it did happen",
  noise: "nothing was wrong",
  planned: "known beforehand",
};

/**
 * One alert after another, the one whose label would teach most first: one key each, undo, and those like
 * it together.
 */
export function LabelsPage() {
  const questions = useQuestions();
  const queries = useQueryClient();
  const label = useLabel();
  const [answered, setAnswered] = useState<Answered[]>([]);
  const [skipped, setSkipped] = useState<number[]>([]);
  const [together, setTogether] = useState(true);
  const [note, setNote] = useState("");
  const gone = new Set([...answered.flatMap((a) => a.all), ...skipped]);
  const list = (questions.data?.questions ?? []).filter((q) => !gone.has(q.alert.id));
  const q: Question | undefined = list[0];
  const like = together && q ? q.alike.filter((a) => !gone.has(a.id)) : [];
  const now = useNow();
  // The filter learns from each answer; a moment later the queue has a new order.
  useEffect(() => {
    const wait = setTimeout(() => outdate(queries, "questions"), 2500);
    return () => clearTimeout(wait);
  }, [answered.length, queries]);
  const answer = (verdict: Verdict) => {
    if (!q || label.isPending) return;
    const all = [q.alert, ...like];
    label.mutate(
      {
        alerts: all.map((a) => a.id),
        verdict,
        note: note || undefined,
        seen: Object.fromEntries(all.map((a) => [String(a.id), a.label_id])),
      },
      {
        onSuccess: () => {
          setAnswered([{ alert: q.alert, verdict, all: all.map((a) => a.id) }, ...answered]);
          setNote("");
        },
      },
    );
  };
  const undo = () => {
    const [last, ...rest] = answered;
    if (last) label.mutate({ alerts: last.all, verdict: "" }, { onSuccess: () => setAnswered(rest) });
  };
  const skip = () => q && setSkipped([...skipped, q.alert.id]);
  const keys = {
    Z: { does: "undo", act: undo },
    " ": { does: "skip", act: skip },
    A: { does: "with those alike, or alone", act: () => setTogether(!together) },
    F: { does: "fault", act: () => answer("fault") },
    N: { does: "noise", act: () => answer("noise") },
    P: { does: "planned", act: () => answer("planned") },
  };
  const d = questions.data;
  return (
    <Page
      place={
        `Label queue${d ? `, ${count(d.waiting, "alert")} waiting` : ""}: the alert ` +
        "whose label would teach most comes first"
      }
      keys={keys}
      sentence={
        q
          ? `${q.alert.sentence}.`
          : d
            ? d.waiting === 0
              ? "Every alert is answered."
              : "That is all for this round."
            : ""
      }
    >
      <Trouble what="The queue" error={questions.error} />
      {questions.isPending && <Reading what="the queue" />}
      {d && (
        <div className="mt-3 grid max-lg:grid-cols-1 grid-cols-[208px_minmax(0,1fr)_240px] gap-9">
          <div className="max-lg:order-last">
            <Section title="Answered" right={answered.length ? `${answered.length} so far` : ""}>
              {answered.length === 0 && (
                <p className="mt-2 text-ink2">One key an answer: F, N or P. Z takes the last one back.</p>
              )}
              {answered.slice(0, 7).map((a) => (
                <div key={a.alert.id} className="border-b border-hair py-[6px]">
                  <Mark state={a.verdict} />
                  {a.all.length > 1 && <span className="ml-2 text-ink2">and {a.all.length - 1} alike</span>}
                  <div className="truncate">
                    <Link to={`/alerts/${a.alert.id}`}>{a.alert.sentence}</Link>
                  </div>
                  <code className="text-[12.5px] text-ink2">{a.alert.dataset}</code>
                </div>
              ))}
              {answered.length > 0 && (
                <button className="mt-2" onClick={undo}>
                  <Key name="Z" />
                  <span className="underline decoration-pewter-line underline-offset-3">undo the last</span>
                </button>
              )}
            </Section>
            <Enough answered={d.answered} enough={d.enough} sentence={d.sentence} />
            <OfThePast />
          </div>
          {q ? (
            <Asked
              key={q.alert.id}
              q={q}
              like={like}
              together={together}
              setTogether={setTogether}
              now={now}
              answer={answer}
              note={note}
              setNote={setNote}
              error={label.error}
            />
          ) : (
            <div className="border-t border-ink pt-3">
              {skipped.length > 0 ? (
                <Button look="text" onClick={() => setSkipped([])}>
                  Look again at the {skipped.length} skipped
                </Button>
              ) : (
                <Link to="/scorecard">What the labels have done: the scorecard</Link>
              )}
            </div>
          )}
          <Section title="Next" right={`${Math.max(list.length - 1, 0)} more, by what they teach`}>
            {list.slice(1, 11).map((n) => (
              <div key={n.alert.id} className="border-b border-hair py-[6px]">
                <div className="truncate" title={n.alert.sentence}>
                  {n.alert.sentence}
                </div>
                <span className="flex justify-between text-[13px] text-ink2">
                  <code>{n.alert.dataset}</code>
                  <span title="chance of a fault, as the filter sees it">{percent(n.chance)}</span>
                </span>
              </div>
            ))}
          </Section>
        </div>
      )}
    </Page>
  );
}

/** How far the labels are towards showing what they are worth. */
function Enough({ answered, enough, sentence }: { answered: number; enough: number; sentence: string }) {
  return (
    <div className="mt-6">
      <span
        className="relative block h-[9px] border border-ink"
        role="progressbar"
        aria-valuenow={Math.min(answered, enough)}
        aria-valuemax={enough}
        aria-label="answers towards tuning"
      >
        <i
          className="absolute inset-y-0 left-0 bg-ink"
          style={{ width: `${Math.min(100, (100 * answered) / enough)}%` }}
        />
      </span>
      <p className="mt-2 text-[13px] text-ink2">
        {sentence} <Link to="/scorecard">Tune</Link>
      </p>
    </div>
  );
}

function Asked({
  q,
  like,
  together,
  setTogether,
  now,
  answer,
  note,
  setNote,
  error,
}: {
  q: Question;
  like: Alert[];
  together: boolean;
  setTogether: (v: boolean) => void;
  now: number;
  answer: (v: Verdict) => void;
  note: string;
  setNote: (v: string) => void;
  error: Error | null;
}) {
  const a = q.alert;
  const [box, width] = useWidth<HTMLDivElement>();
  const wide = wider(a.period_seconds, 8);
  const end = Math.min(Date.parse(a.closed_at ?? a.raised_at) + 2 * day * wide, now);
  const chart = useChart(a.series_id, new Date(Date.parse(a.since) - 4 * day * wide), new Date(end));
  const held = useHeld(a.id);
  return (
    <div ref={box} className="border-t border-ink pt-2">
      <p className="text-ink2">
        <Link to={`/alerts/${a.id}`}>
          <code>{a.dataset}</code>
        </Link>
        {`, ${a.monitor}; ${a.severity}, ${time(a.raised_at, a.zone)}, `}
        {a.closed_at ? "closed by itself" : "open"}; {rarity(a.return_period_seconds)}
      </p>
      <div className="mt-2 h-[236px]" data-question={a.id}>
        {chart.data ? (
          <SmallChart chart={chart.data} now={now} width={width} height={236} lane={10} />
        ) : (
          <div className="h-full bg-well" />
        )}
      </div>
      {(held.data?.nearest?.length ?? 0) > 0 && (
        <div className="mt-3 border-t border-rule pt-2">
          <div className="text-[13px] text-ink2">Labelled alerts most like it</div>
          <div className="mt-1 grid grid-cols-3 gap-5">
            {held.data!.nearest.slice(0, 3).map((n) => (
              <Near key={n.id} a={n} now={now} width={(width - 40) / 3} />
            ))}
          </div>
        </div>
      )}
      <div className="mt-3 grid grid-cols-2 gap-6 max-md:grid-cols-1 border-t border-rule pt-2">
        <div>
          <div className="text-[13px] text-ink2">Why this one first</div>The filter{" "}
          {q.chance > 0.35 && q.chance < 0.65
            ? "is undecided"
            : q.chance >= 0.65
              ? "thinks it is a fault"
              : "thinks it is noise"}
          : <b className="font-[650]">{q.chance.toFixed(2)}</b> for a fault
          {held.data?.reasons?.length
            ? `; most ${held.data.reasons[0].push < 0 ? "against" : "for"} it: ${held.data.reasons[0].theme}`
            : ""}
          .
        </div>
        <div>
          <div className="text-[13px] text-ink2">Of the same disturbance</div>
          {q.alike.length === 0 ? (
            "No other alert waits."
          ) : (
            <label className="flex items-baseline gap-2">
              <input
                type="checkbox"
                checked={together}
                onChange={(e) => setTogether(e.target.checked)}
                className="accent-[var(--ink)]"
              />
              answer {count(q.alike.length, "other")} with it
              {like.length > 0 &&
                ": " +
                  [...new Set(like.map((l) => l.segment || l.measure.replaceAll("_", " ")))]
                    .slice(0, 4)
                    .join(", ")}
            </label>
          )}
        </div>
      </div>
      <div className="mt-4 grid grid-cols-3 gap-3">
        {(["fault", "noise", "planned"] as const).map((v) => (
          <Button key={v} onClick={() => answer(v)} className="flex items-center gap-3 bg-field text-left">
            <kbd
              className={cx(
                "flex size-[28px] items-center justify-center border border-ink2 font-sans",
                "text-[15px] font-semibold",
              )}
            >
              {v[0].toUpperCase()}
            </kbd>
            <span>
              <Mark state={v} word={v[0].toUpperCase() + v.slice(1)} />
              <span className="block text-[13px] text-ink2">{means[v]}</span>
            </span>
          </Button>
        ))}
      </div>
      <input
        aria-label="Cause or note"
        className="mt-3 w-full border border-ink3 bg-field px-3 py-[5px]"
        placeholder="Cause or note, kept with the label"
        value={note}
        onChange={(e) => setNote(e.target.value)}
      />
      <Refusal error={error} className="mt-2" />
    </div>
  );
}

function Near({ a, now, width }: { a: Alert; now: number; width: number }) {
  const wide = wider(a.period_seconds, 8);
  const chart = useChart(
    a.series_id,
    new Date(Date.parse(a.since) - 1.5 * day * wide),
    new Date(Math.min(Date.parse(a.raised_at) + day * wide, now)),
  );
  return (
    <div>
      <div className="flex justify-between gap-2">
        <Link to={`/alerts/${a.id}`} className="truncate">
          {a.segment || a.dataset}
        </Link>
        <Mark state={a.verdict as Verdict} />
      </div>
      {chart.data ? (
        <SmallChart chart={chart.data} now={now} width={width} height={96} />
      ) : (
        <div className="h-[96px] bg-well" />
      )}
    </div>
  );
}
