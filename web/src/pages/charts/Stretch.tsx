import { useState } from "react";
import { Link } from "react-router";
import type { Chart } from "../../api/client";
import { useAddNote } from "../../api/notes";
import { useExplain } from "../../api/queries";
import { Button, Field, field, Refusal } from "../../parts/Form";
import { useVerdicts } from "../../parts/Verdicts";
import { city, signed, time, value } from "../../parts/words";

/** The period of a stretch that lies farthest from what was expected; none where nothing was. */
export function farthest(c: Chart, from: Date, to: Date): number | undefined {
  let best: number | undefined;
  c.at.forEach((t, i) => {
    const at = Date.parse(t),
      off = Math.abs(c.deviation[i] ?? 0);
    if (at >= +from && at < +to && off > Math.abs(c.deviation[best ?? -1] ?? 0)) best = i;
  });
  return best;
}

/** What can be done with a stretch that was dragged over: look closer, say, note, ask why. */
export function Stretch({
  chart: c,
  from,
  to,
  zoom,
  close,
}: {
  chart: Chart;
  from: Date;
  to: Date;
  zoom: () => void;
  close: () => void;
}) {
  const [text, setText] = useState(""),
    [why, askWhy] = useState(false);
  const note = useAddNote();
  const verdicts = useVerdicts(c.series.id, from.toISOString(), to.toISOString(), text);
  return (
    <div className="mt-2 border border-ink bg-well p-3" role="group" aria-label="The chosen stretch">
      <p>
        {time(from, c.zone)} to {time(to, c.zone)}, times in {city(c.zone)}
      </p>
      <Field label="What was seen" className="mt-2">
        <input className={field} value={text} onChange={(e) => setText(e.target.value)} />
      </Field>
      <div className="mt-2 flex flex-wrap gap-2">
        <Button onClick={zoom}>Look closer</Button>
        {verdicts.buttons}
        <Button
          disabled={text.trim() === "" || note.isPending}
          onClick={() => note.mutate({ dataset: c.dataset, at: from.toISOString(), text })}
        >
          Note it
        </Button>
        <Button aria-expanded={why} onClick={() => askWhy(true)}>
          Why?
        </Button>
        <Button look="text" className="ml-auto" onClick={close}>
          close
        </Button>
      </div>
      <Refusal error={note.error} className="mt-2" />
      {verdicts.came}
      {note.isSuccess && (
        <p role="status" className="mt-2">
          Noted on the charts of {c.dataset}.
        </p>
      )}
      {why && <WhyHere chart={c} from={from} to={to} />}
    </div>
  );
}

/** Alerts that were raised of the stretch, and what its oddest value was expected from. */
function WhyHere({ chart: c, from, to }: { chart: Chart; from: Date; to: Date }) {
  const at = farthest(c, from, to);
  const explain = useExplain(c.series.id, at === undefined ? undefined : c.at[at]);
  const alerts = c.alerts.filter(
    (a) => Date.parse(a.since) < +to && (!a.closed_at || Date.parse(a.closed_at) > +from),
  );
  return (
    <div className="mt-2">
      {alerts.map((a) => (
        <p key={a.id}>
          An alert was raised of it: <Link to={`/alerts/${a.id}`}>its evidence and its causes</Link>.
        </p>
      ))}
      {at === undefined ? (
        <p>Nothing in it lies away from what was expected.</p>
      ) : (
        <p>
          Farthest from expected is {time(c.at[at], c.zone)}: {value(c.observed[at], c.kind)} where{" "}
          {value(c.expected[at], c.kind)} was expected, {signed(c.deviation[at]!)} half-widths.{" "}
          {explain.data?.parts && (
            <>
              Expected from{" "}
              {explain.data.parts
                .map((p, i) => `${p.name} ${i === 0 ? value(p.amount, c.kind) : signed(p.amount, 0)}`)
                .join(", ")}
              .
            </>
          )}
        </p>
      )}
      <Refusal error={explain.error} />
    </div>
  );
}
