import type { Monitor } from "../../api/client";
import { useSaveMonitor } from "../../api/queries";
import { useSnoozeMonitor } from "../../api/telling";
import { Section } from "../../parts/Page";
import { time } from "../../parts/words";

const link = "underline decoration-pewter-line underline-offset-3";

/** Snooze: alerts are kept and nobody is told. Pause: nothing is judged. */
export function Silence({ m }: { m: Monitor }) {
  const snooze = useSnoozeMonitor(), save = useSaveMonitor(m.name);
  const quiet = m.snoozed_until && Date.parse(m.snoozed_until) > Date.now();
  const wrong = snooze.error ?? save.error;
  return (
    <Section className="mt-4" title="Silence" right={<button className={link} disabled={save.isPending} onClick={() => save.mutate({ version: m.version, settings: m.settings, paused: !m.paused })}>{m.paused ? "go on judging" : "pause"}</button>}>
      <p className="mt-2 text-ink2">
        {m.paused ? "Paused: nothing is judged, nothing told." : quiet ? <>Snoozed until {time(m.snoozed_until!, "UTC")} UTC by {m.snoozed_by}: alerts are kept, nobody is told. <button className={`text-ink ${link}`} onClick={() => snooze.mutate({ name: m.name, seconds: 0 })}>tell again</button></>
          : <>Snooze for {([["1 h", 3600], ["4 h", 14_400], ["1 day", 86_400], ["1 week", 604_800]] as const).map(([name, seconds]) => <button key={name} className={`ml-2 text-ink ${link}`} onClick={() => snooze.mutate({ name: m.name, seconds })}>{name}</button>)}</>}
      </p>
      {wrong && <p role="alert" className="text-verm">{wrong.message}</p>}
    </Section>
  );
}
