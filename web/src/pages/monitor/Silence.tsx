import { useNavigate } from "react-router";
import type { Monitor } from "../../api/client";
import { useRenameMonitor, useSaveMonitor } from "../../api/queries";
import { useSnoozeMonitor } from "../../api/telling";
import { Section } from "../../parts/Page";
import { time } from "../../parts/words";

const link = "underline decoration-pewter-line underline-offset-3";

/** Snooze: alerts are kept and nobody is told. Pause: nothing is judged. */
export function Silence({ m }: { m: Monitor }) {
  const snooze = useSnoozeMonitor(), save = useSaveMonitor(m.name), rename = useRenameMonitor(m.name);
  const go = useNavigate();
  const called = () => {
    const name = prompt("What is it to be called?", m.name)?.trim();
    if (name && name !== m.name) rename.mutate({ name }, { onSuccess: (v) => go(`/monitors/${encodeURIComponent(v.name)}`, { replace: true }) });
  };
  const retire = () => (m.retired_at || confirm(`Retire ${m.name}? It judges nothing any more; its alerts, labels and versions stay.`)) && rename.mutate({ retired: !m.retired_at });
  const quiet = m.snoozed_until && Date.parse(m.snoozed_until) > Date.now();
  const wrong = snooze.error ?? save.error ?? rename.error;
  return (
    <Section className="mt-4" title="Silence" right={!m.retired_at && <button className={link} disabled={save.isPending} onClick={() => save.mutate({ version: m.version, settings: m.settings, paused: !m.paused })}>{m.paused ? "go on judging" : "pause"}</button>}>
      <p className="mt-2 text-ink2">
        {m.retired_at ? "Retired: nothing is judged, and its past is kept." : m.paused ? "Paused: nothing is judged, nothing told." : quiet ? <>Snoozed until {time(m.snoozed_until!, "UTC")} UTC by {m.snoozed_by}: alerts are kept, nobody is told. <button className={`text-ink ${link}`} onClick={() => snooze.mutate({ name: m.name, seconds: 0 })}>tell again</button></>
          : <>Snooze for {([["1 h", 3600], ["4 h", 14_400], ["1 day", 86_400], ["1 week", 604_800]] as const).map(([name, seconds]) => <button key={name} className={`ml-2 text-ink ${link}`} onClick={() => snooze.mutate({ name: m.name, seconds })}>{name}</button>)}</>}
      </p>
      <p className="mt-1 text-[13px]"><button className={link} onClick={called}>rename</button><button className={`ml-3 ${link}`} onClick={retire}>{m.retired_at ? "needed again" : "retire"}</button></p>
      {wrong && <p role="alert" className="text-verm">{wrong.message}</p>}
    </Section>
  );
}
