import type { Monitor } from "../../api/client";
import { differences, useAlwaysTell, useTakeBack, useVersions } from "../../api/learning";
import { Section } from "../../parts/Page";
import { time } from "../../parts/words";
import { Button, Refusal } from "../../parts/Form";

/** What it was set to, by whom and why; one step back, or several. */
export function Versions({ m }: { m: Monitor }) {
  const versions = useVersions(m.name);
  const back = useTakeBack(m.name);
  const always = useAlwaysTell(m.name);
  const list = versions.data ?? [];
  return (
    <Section className="mt-4" title="Versions" right={`${m.version} so far`}>
      {list.slice(0, 5).map((v, i) => (
        <div
          key={v.version}
          className="flex items-baseline justify-between gap-3 border-b border-hair py-[5px]"
        >
          <span>
            <b className="font-[650]">{v.version}</b>{" "}
            {v.reason ||
              (i < list.length - 1
                ? `changed ${differences(v.settings, list[i + 1].settings).join(", ") || "nothing"}`
                : "first")}
            <span className="block text-[13px] text-ink2">
              {v.author || "set up"}, {time(v.at, "UTC", "short")} UTC
            </span>
          </span>
          {v.version !== m.version && (
            <Button
              disabled={back.isPending}
              look="text"
              className="shrink-0"
              onClick={() => back.mutate(v.version)}
            >
              take back
            </Button>
          )}
        </div>
      ))}
      <Refusal error={back.error} className="mt-2" />
      <label className="mt-2 flex items-baseline gap-2">
        <input
          type="checkbox"
          checked={m.always_tell}
          onChange={(e) => always.mutate(e.target.checked)}
          className="accent-[var(--ink)]"
        />
        never hold its alerts back
      </label>
    </Section>
  );
}
