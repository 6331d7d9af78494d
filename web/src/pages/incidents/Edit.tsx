import { type FormEvent, useState } from "react";
import type { Incident } from "../../api/client";
import { useChangeIncident, useDropIncident, useSplitIncident } from "../../api/learning";
import { Button, Field, Form, field } from "../../parts/Form";

/** A time as a field of this browser takes it. */
export const local = (at: string | null) =>
  at ? new Date(Date.parse(at) - new Date(at).getTimezoneOffset() * 60_000).toISOString().slice(0, 16) : "";

/** What is said of an incident: changed, cut in two, or removed. */
export function EditIncident({ i, close }: { i: Incident; close: () => void }) {
  const change = useChangeIncident(),
    split = useSplitIncident(),
    drop = useDropIncident();
  const [at, setAt] = useState("");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget);
    const text = (name: string) => (f.get(name) as string) || undefined;
    const when = (name: string, was: string | null) =>
      text(name) === undefined
        ? undefined
        : text(name) === local(was)
          ? was!
          : new Date(text(name)!).toISOString();
    change.mutate(
      {
        reference: i.reference,
        dataset: i.dataset,
        measure: i.measure || undefined,
        segment: text("segment"),
        title: text("title") ?? "",
        started_at: when("started", i.started_at) ?? i.started_at,
        ended_at: when("ended", i.ended_at),
        cause: text("cause"),
        severity: f.get("critical") ? "critical" : "warning",
        impact: text("impact"),
        note: text("note"),
        downstream: f.get("downstream") !== null,
        also: (text("also") ?? "").split(/[\s,;]+/).filter(Boolean),
      },
      { onSuccess: close },
    );
  };
  const wrong = change.error ?? split.error ?? drop.error;
  return (
    <Form
      error={wrong}
      onSubmit={submit}
      className="mt-3 border border-ink bg-well p-4"
      aria-label={`edit ${i.reference}`}
    >
      <div className="grid gap-3 md:grid-cols-[minmax(0,2fr)_minmax(0,1fr)_minmax(0,1fr)_minmax(0,1fr)]">
        <Field label={<>{i.reference}: what happened</>} of="title">
          <input name="title" required defaultValue={i.title} className={field} />
        </Field>
        <Field label={<>Began, in {Intl.DateTimeFormat().resolvedOptions().timeZone}</>} of="started">
          <input
            name="started"
            type="datetime-local"
            required
            defaultValue={local(i.started_at)}
            className={field}
          />
        </Field>
        <Field label="Ended, if it has" of="ended">
          <input name="ended" type="datetime-local" defaultValue={local(i.ended_at)} className={field} />
        </Field>
        <Field label="Segment, if only one" of="segment">
          <input name="segment" defaultValue={i.segment} className={field} />
        </Field>
        <Field label="What it did to whom" of="impact">
          <input name="impact" defaultValue={i.impact} className={field} />
        </Field>
        <Field label="Cause" of="cause">
          <input name="cause" defaultValue={i.cause} className={field} />
        </Field>
        <Field label="Other datasets that it hit" of="also">
          <input name="also" defaultValue={i.also.join(", ")} className={field} />
        </Field>
        <Field label="Note" of="note">
          <input name="note" defaultValue={i.note} className={field} />
        </Field>
      </div>
      <div className="mt-3 flex flex-wrap items-center gap-5">
        <label className="flex items-baseline gap-2">
          <input
            type="checkbox"
            name="critical"
            defaultChecked={i.severity === "critical"}
            className="accent-[var(--ink)]"
          />
          critical
        </label>
        <label className="flex items-baseline gap-2">
          <input
            type="checkbox"
            name="downstream"
            defaultChecked={i.downstream}
            className="accent-[var(--ink)]"
          />
          what reads the dataset is hit too
        </label>
        <Button type="submit" look="primary" disabled={change.isPending}>
          Save
        </Button>
        <Button onClick={close}>Cancel</Button>
        <span className="ml-auto flex items-center gap-2">
          split at{" "}
          <input
            aria-label="Split at"
            type="datetime-local"
            value={at}
            onChange={(e) => setAt(e.target.value)}
            className="border border-ink3 bg-field px-2 py-1"
          />
          <Button
            disabled={!at || split.isPending}
            look="text"
            onClick={() =>
              split.mutate({ reference: i.reference, at: new Date(at).toISOString() }, { onSuccess: close })
            }
          >
            split
          </Button>
        </span>
        <Button
          look="text"
          className="text-verm"
          onClick={() => drop.mutate(i.reference, { onSuccess: close })}
        >
          remove
        </Button>
      </div>
    </Form>
  );
}
