import { useState } from "react";
import { Link, useParams } from "react-router";
import type { PastQuestion, Verdict } from "../../api/client";
import { useAnswerPast, usePast } from "../../api/learning";
import { useChart, useNow } from "../../api/queries";
import { SmallChart } from "../../chart/Small";
import { useWidth } from "../../chart/width";
import { Key } from "../../parts/keys";
import { Mark } from "../../parts/Mark";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { count, percent, time } from "../../parts/words";
import { Button, Refusal } from "../../parts/Form";

const day = 86_400_000;

const means: Record<Verdict, string> = {
  fault: "it did happen",
  noise: "the series does that",
  planned: "known beforehand",
};

const keyOf = (q: PastQuestion) => `${q.series_id} ${q.from}`;

/**
 * The stretches of a monitor's past that move its limits most: a fault nobody labelled, or what the series
 * does? One key each.
 */
export function PastPage() {
  const name = useParams().name!;
  const past = usePast(name);
  const answer = useAnswerPast(name);
  const [answered, setAnswered] = useState<{ q: PastQuestion; verdict: Verdict }[]>([]);
  const [skipped, setSkipped] = useState<string[]>([]);
  const gone = new Set([...answered.map((a) => keyOf(a.q)), ...skipped]);
  const list = (past.data?.questions ?? []).filter((q) => !gone.has(keyOf(q)));
  const q = list[0];
  const now = useNow();
  const give = (verdict: Verdict) => {
    if (!q || answer.isPending) return;
    answer.mutate(
      { series: q.series ?? [q.series_id], from: q.from, to: q.to, verdict },
      { onSuccess: () => setAnswered([{ q, verdict }, ...answered]) },
    );
  };
  const skip = () => q && setSkipped([...skipped, keyOf(q)]);
  const keys = {
    " ": { does: "skip", act: skip },
    F: { does: "fault", act: () => give("fault") },
    N: { does: "ordinary", act: () => give("noise") },
    P: { does: "planned", act: () => give("planned") },
  };
  const place = (
    <>
      Past of monitor <Link to={`/monitors/${name}`}>{name}</Link>: what moves its limits most comes first
    </>
  );
  return (
    <Page
      place={place}
      keys={keys}
      sentence={q ? q.sentence.split(". ")[0].replace(/\.?$/, ".") : past.data ? past.data.sentence : ""}
    >
      <Trouble what="The past" error={past.error} />
      {past.isPending && <Reading what="the past" />}
      {past.data && (
        <div className="mt-3 grid max-lg:grid-cols-1 grid-cols-[208px_minmax(0,1fr)_240px] gap-9">
          <Section title="Answered" right={answered.length ? `${answered.length} so far` : ""}>
            {answered.length === 0 && (
              <p className="mt-2 text-ink2">
                An extreme that is ordinary and a fault that nobody labelled look alike. One key an answer;
                all can be left open.
              </p>
            )}
            {answered.map((a) => (
              <div key={keyOf(a.q)} className="border-b border-hair py-[6px]">
                <Mark state={a.verdict} word={a.verdict === "noise" ? "ordinary" : undefined} />
                <div>{a.q.segment || "whole table"}</div>
                <span className="text-[13px] text-ink2">{time(a.q.from, past.data.zone)}</span>
              </div>
            ))}
          </Section>
          {q ? (
            <Asked key={keyOf(q)} q={q} zone={past.data.zone} now={now} give={give} error={answer.error} />
          ) : (
            <div className="border-t border-ink pt-3">
              {answered.length > 0 ? (
                <Button
                  look="text"
                  onClick={() => {
                    setAnswered([]);
                    setSkipped([]);
                    past.refetch();
                  }}
                >
                  Ask again with what was answered
                </Button>
              ) : skipped.length > 0 ? (
                <Button look="text" onClick={() => setSkipped([])}>
                  Look again at the {skipped.length} skipped
                </Button>
              ) : (
                <Link to={`/monitors/${name}`}>Back to the monitor</Link>
              )}
            </div>
          )}
          <Section title="Next" right={`${Math.max(list.length - 1, 0)} more`}>
            {list.slice(1).map((n) => (
              <div key={keyOf(n)} className="border-b border-hair py-[6px]">
                <div>
                  {n.segment || "whole table"}, {n.rule} {n.direction}
                </div>
                <span className="flex justify-between text-[13px] text-ink2">
                  <span>{time(n.from, past.data.zone)}</span>
                  <span title="by how much the limit falls if it was a fault">{percent(n.gain)}</span>
                </span>
              </div>
            ))}
          </Section>
        </div>
      )}
    </Page>
  );
}

function Asked({
  q,
  zone,
  now,
  give,
  error,
}: {
  q: PastQuestion;
  zone: string;
  now: number;
  give: (v: Verdict) => void;
  error: Error | null;
}) {
  const [box, width] = useWidth<HTMLDivElement>();
  const length = Date.parse(q.to) - Date.parse(q.from);
  const around = Math.max(3 * day, 2 * length);
  const chart = useChart(
    q.series_id,
    new Date(Date.parse(q.from) - around),
    new Date(Math.min(Date.parse(q.to) + around, now)),
  );
  const others = q.segments.slice(1);
  return (
    <div ref={box} className="border-t border-ink pt-2">
      <p className="text-ink2">
        {q.segment || "whole table"}, {q.rule} {q.direction}; {time(q.from, zone)} to {time(q.to, zone)};{" "}
        {q.strength.toFixed(1)} times the limit
      </p>
      <div className="mt-2 h-[236px]" data-question={q.series_id}>
        {chart.data ? (
          <SmallChart
            chart={chart.data}
            now={now}
            width={width}
            height={236}
            lane={10}
            asked={[Date.parse(q.from), Date.parse(q.to)]}
          />
        ) : (
          <div className="h-full bg-well" />
        )}
      </div>
      <div className="mt-3 border-t border-rule pt-2">
        <div className="text-[13px] text-ink2">What the answer changes</div>
        {q.sentence.slice(q.sentence.indexOf(". ") + 2)}
      </div>
      {others.length > 0 && (
        <p className="mt-2 text-[13px] text-ink2">
          Answered together with {count(others.length, "other segment")}: {others.slice(0, 5).join(", ")}
          {others.length > 5 && " …"}
        </p>
      )}
      <div className="mt-4 grid grid-cols-3 gap-3">
        {(["fault", "noise", "planned"] as const).map((v) => (
          <Button key={v} onClick={() => give(v)} className="flex items-center gap-3 bg-field text-left">
            <Key name={v[0].toUpperCase()} />
            <span>
              <Mark state={v} word={v === "noise" ? "Ordinary" : v[0].toUpperCase() + v.slice(1)} />
              <span className="block text-[13px] text-ink2">{means[v]}</span>
            </span>
          </Button>
        ))}
      </div>
      <Refusal error={error} className="mt-2" />
    </div>
  );
}
