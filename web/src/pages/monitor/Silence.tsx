import { useNavigate } from "react-router";
import type { Monitor } from "../../api/client";
import { useNow, useRenameMonitor, useSaveMonitor } from "../../api/queries";
import { useSnoozeMonitor } from "../../api/telling";
import { Section } from "../../parts/Page";
import { time } from "../../parts/words";
import { Button, Refusal } from "../../parts/Form";
import { Sure, Typed } from "../../parts/Ask";

/** Snooze: alerts are kept and nobody is told. Pause: nothing is judged. */
export function Silence({ m }: { m: Monitor }) {
  const snooze = useSnoozeMonitor(),
    save = useSaveMonitor(m.name),
    rename = useRenameMonitor(m.name);
  const go = useNavigate();
  const now = useNow();
  const quiet = m.snoozed_until && Date.parse(m.snoozed_until) > now;
  const wrong = snooze.error ?? save.error ?? rename.error;
  return (
    <Section
      className="mt-4"
      title="Silence"
      right={
        !m.retired_at && (
          <Button
            look="text"
            disabled={save.isPending}
            onClick={() => save.mutate({ version: m.version, settings: m.settings, paused: !m.paused })}
          >
            {m.paused ? "go on judging" : "pause"}
          </Button>
        )
      }
    >
      <p className="mt-2 text-ink2">
        {m.retired_at ? (
          "Retired: nothing is judged, and its past is kept."
        ) : m.paused ? (
          "Paused: nothing is judged, nothing told."
        ) : quiet ? (
          <>
            Snoozed until {time(m.snoozed_until!, "UTC")} UTC by {m.snoozed_by}: alerts are kept, nobody is
            told.{" "}
            <Button
              look="text"
              className="text-ink"
              onClick={() => snooze.mutate({ name: m.name, seconds: 0 })}
            >
              tell again
            </Button>
          </>
        ) : (
          <>
            Snooze for{" "}
            {(
              [
                ["1 h", 3600],
                ["4 h", 14_400],
                ["1 day", 86_400],
                ["1 week", 604_800],
              ] as const
            ).map(([name, seconds]) => (
              <Button
                key={name}
                look="text"
                className="ml-2 text-ink"
                onClick={() => snooze.mutate({ name: m.name, seconds })}
              >
                {name}
              </Button>
            ))}
          </>
        )}
      </p>
      <p className="mt-1 text-[13px]">
        <Typed
          asks={`Rename ${m.name}`}
          label="Name"
          given={m.name}
          does="Rename"
          act={(name) =>
            rename.mutate(
              { name },
              { onSuccess: (v) => go(`/monitors/${encodeURIComponent(v.name)}`, { replace: true }) },
            )
          }
        >
          rename
        </Typed>
        {m.retired_at ? (
          <Button look="text" className="ml-3" onClick={() => rename.mutate({ retired: false })}>
            needed again
          </Button>
        ) : (
          <Sure
            className="ml-3"
            asks={`Retire ${m.name}?`}
            says="It judges nothing any more; its alerts, labels and versions stay. It can be needed again."
            does="Retire it"
            act={() => rename.mutate({ retired: true })}
          >
            retire
          </Sure>
        )}
      </p>
      <Refusal error={wrong} />
    </Section>
  );
}
