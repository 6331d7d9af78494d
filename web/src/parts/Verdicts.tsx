import { Link } from "react-router";
import type { Verdict } from "../api/client";
import { useStretchLabel } from "../api/learning";
import { Button, Refusal } from "./Form";

const called: [Verdict, string][] = [
  ["fault", "It was a fault"],
  ["noise", "It was noise"],
  ["planned", "It was planned"],
];

/** The verdicts that can be given on a stretch of a series, and what came of the one given. */
export function useVerdicts(series: number, from: string, to: string, note: string) {
  const say = useStretchLabel();
  const ready = Date.parse(to) > Date.parse(from);
  const give = (verdict: Verdict) =>
    say.mutate({
      series_id: series,
      from: new Date(from).toISOString(),
      to: new Date(to).toISOString(),
      verdict,
      note: note || undefined,
    });
  return {
    buttons: called.map(([v, name]) => (
      <Button key={v} disabled={!ready || say.isPending} onClick={() => give(v)}>
        {name}
      </Button>
    )),
    came: (
      <>
        <Refusal error={say.error} className="mt-2" />
        {say.data && (
          <p role="status" className="mt-2">
            Kept{say.data.incident && <> as incident {<Link to="/incidents">{say.data.incident}</Link>}</>}.
          </p>
        )}
      </>
    ),
  };
}
