import type { Log } from "../../api/client";
import { useSetLog } from "../../api/logs";
import { Choice } from "../../parts/Controls";
import { Section } from "../../parts/Page";
import { duration } from "../../parts/words";
import { Refusal } from "../../parts/Form";

export const week = 7 * 86_400;

const kinds = [
  ["new", "it never said"],
  ["burst", "it says far more often than it does"],
  ["vanished", "it no longer says"],
] as const;

/** What of a log is told. */
export function Told({ log }: { log: Log }) {
  const set = useSetLog(log.name);
  const watched = log.watched,
    told = log.kinds;
  const toggle = (list: string[], v: string) =>
    list.includes(v) ? list.filter((s) => s !== v) : [...list, v];
  return (
    <Section title="What is told">
      <p className="mt-1 text-[13px] text-ink2">
        New sentences of these severities; of none, nothing is told:
      </p>
      <div className="mt-1 flex gap-4">
        {["WARN", "ERROR", "FATAL"].map((s) => (
          <label key={s} className="flex items-baseline gap-1">
            <input
              type="checkbox"
              checked={watched.includes(s)}
              disabled={set.isPending}
              onChange={() => set.mutate({ watched: toggle(watched, s) })}
            />
            {s.toLowerCase()}
          </label>
        ))}
      </div>
      <p className="mt-2 text-[13px] text-ink2">A sentence that</p>
      {kinds.map(([kind, says]) => (
        <label key={kind} className="flex items-baseline gap-1 text-[13px]">
          <input
            type="checkbox"
            checked={told.includes(kind)}
            disabled={set.isPending || (told.length === 1 && told[0] === kind)}
            onChange={() => set.mutate({ kinds: toggle(told, kind) })}
          />
          {says}
        </label>
      ))}
      <div className="mt-2 text-[13px]">
        <Choice
          name="All that is told comes no more often than once in"
          value={String(log.rare_seconds)}
          options={[
            [String(week), "7 d"],
            [String(2 * week), "14 d"],
            [String(8 * week), "8 w"],
          ]}
          onChange={(v) => set.mutate({ rare_seconds: Number(v) })}
        />
        <p className="mt-1 text-ink2">
          All together no more often than once in {duration(log.rare_seconds)}, by the log's own past; a
          sentence much like a known one is no news.
        </p>
      </div>
      <Refusal error={set.error} className="mt-1" />
    </Section>
  );
}
