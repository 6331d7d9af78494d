import { useState } from "react";
import { Button, Field, field } from "../../parts/Form";
import { useVerdicts } from "../../parts/Verdicts";
import { city } from "../../parts/words";

/** A verdict on a stretch where no alert was: what was missed becomes an incident. */
export function Said({ id, zone }: { id: number; zone: string }) {
  const [open, setOpen] = useState(false);
  const [from, setFrom] = useState(""),
    [to, setTo] = useState(""),
    [note, setNote] = useState("");
  const verdicts = useVerdicts(id, from, to, note);
  if (!open)
    return (
      <Button look="text" className="mt-1 text-[13px]" onClick={() => setOpen(true)}>
        say something about a stretch where no alert was
      </Button>
    );
  return (
    <div className="mt-2">
      <div className="flex flex-wrap items-end gap-2">
        <Field label="From">
          <input
            type="datetime-local"
            className={field}
            value={from}
            onChange={(e) => setFrom(e.target.value)}
          />
        </Field>
        <Field label="To">
          <input type="datetime-local" className={field} value={to} onChange={(e) => setTo(e.target.value)} />
        </Field>
        <Field label="What was seen" className="grow">
          <input className={`${field} w-full`} value={note} onChange={(e) => setNote(e.target.value)} />
        </Field>
        {verdicts.buttons}
      </div>
      <p className="mt-2 text-[13px] text-ink2">
        Times of this browser ({Intl.DateTimeFormat().resolvedOptions().timeZone}); the series is in{" "}
        {city(zone)}. A fault becomes an incident that nobody was told of.
      </p>
      {verdicts.came}
    </div>
  );
}
