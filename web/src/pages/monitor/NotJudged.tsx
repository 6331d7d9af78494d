import type { SeriesState } from "../../api/client";
import { Section } from "../../parts/Page";
import { count, time } from "../../parts/words";

/** The series that a monitor cannot judge yet, or any more: since when, and why. */
export function NotJudged({ states }: { states: SeriesState[] }) {
  if (states.length === 0) return null;
  const failed = states.filter((s) => s.state === "failed").length;
  return (
    <Section
      className="mb-4"
      title="Not judged"
      right={failed ? count(failed, "broke off", "broke off") : count(states.length, "waits", "wait")}
    >
      <ul className="mt-2 max-h-56 overflow-auto">
        {states.map((s) => (
          <One key={s.series_id} s={s} />
        ))}
      </ul>
    </Section>
  );
}

function One({ s }: { s: SeriesState }) {
  return (
    <li className={`border-b border-hair py-1 ${s.state === "failed" ? "text-verm" : "text-ink2"}`}>
      <b className="font-[650]">{s.segment || "all"}</b> since {time(s.since, "UTC")} UTC: {s.message}
    </li>
  );
}
