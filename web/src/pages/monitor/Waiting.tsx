import type { Settings } from "../../api/client";
import { useProposals } from "../../api/learning";
import { One } from "../scorecard/Learning";
import { Button } from "../../parts/Form";

/** What tuning proposes for this monitor; it can be rehearsed before it is accepted. */
export function Waiting({ monitor, onTry }: { monitor: string; onTry: (s: Settings) => void }) {
  const mine = (useProposals().data ?? []).filter((p) => p.monitor === monitor);
  if (mine.length === 0) return null;
  return (
    <div className="mt-3 border-t border-brass-mark">
      {mine.map((p) => (
        <div key={p.id} className="grid grid-cols-[minmax(0,1fr)_auto] items-start gap-3">
          <One p={p} />
          <Button look="text" className="mt-[9px]" onClick={() => onTry(p.settings)}>
            rehearse it below
          </Button>
        </div>
      ))}
    </div>
  );
}
