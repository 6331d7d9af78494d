import { useSyncExternalStore } from "react";
import { useLocation, useNavigate } from "react-router";
import { Button } from "./Form";

/** The way through the demo: where, and what is to be seen there. */
const steps = [
  ["/", "What is wrong now: alerts of one cause stand together, the most urgent first. T takes the first."],
  ["/datasets", "Every dataset against its band: what came, what was expected, when the next load is due."],
  ["/alerts", "All alerts, open and past. Open one: the chart shows what was expected and how rare this is."],
  ["/labels", "The alerts whose answer teaches most: F fault, N noise, P planned. Z takes one back."],
  [
    "/monitors",
    "What each monitor states it rings by chance, beside how often it has. Open one to rehearse it.",
  ],
  ["/scorecard", "Precision, recall and alert load with their intervals, and what tuning would change."],
  ["/drift/noshow", "Features of a model by week: the arrows move the frame, the shapes show what changed."],
  ["/logs/gates-loader", "What a loader's log says, as sentences counted; new ones tell of themselves."],
] as const;

const kept = "tinbell-tour";
const listeners = new Set<() => void>();

function move(to: number | null) {
  if (to === null) localStorage.removeItem(kept);
  else localStorage.setItem(kept, String(to));
  listeners.forEach((l) => l());
}

const follow = (l: () => void) => {
  listeners.add(l);
  return () => void listeners.delete(l);
};

/** The card of a tour that is under way, or that an address with ?tour begins; nothing else. */
export function Tour() {
  const go = useNavigate();
  const said = useSyncExternalStore(follow, () => localStorage.getItem(kept));
  const { pathname, search } = useLocation();
  const asked = new URLSearchParams(search).has("tour");
  const at = asked ? 0 : Number(said);
  if ((said === null && !asked) || !steps[at]) return null;
  const to = (n: number) => {
    move(n);
    void go(steps[n][0]);
  };
  return (
    <aside
      aria-label="Tour"
      className="fixed right-5 bottom-16 z-[6] w-[340px] max-w-[92vw] border border-ink bg-field p-4"
    >
      <p className="text-[13px] text-ink2">
        Tour, {at + 1} of {steps.length}
      </p>
      <p className="mt-1">{steps[at][1]}</p>
      <div className="mt-3 flex gap-3">
        {at > 0 && <Button onClick={() => to(at - 1)}>Back</Button>}
        {at < steps.length - 1 && (
          <Button look="primary" onClick={() => to(at + 1)}>
            Next
          </Button>
        )}
        <Button
          look="text"
          className="ml-auto"
          onClick={() => {
            move(null);
            if (asked) void go(pathname);
          }}
        >
          end it
        </Button>
      </div>
    </aside>
  );
}
