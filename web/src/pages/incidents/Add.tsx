import { Dialog } from "radix-ui";
import { type FormEvent, useState } from "react";
import { type NewIncident, useAddIncident, useImportIncidents } from "../../api/queries";
import { Pick } from "../../parts/Controls";
import { Button, Field, Form, field } from "../../parts/Form";
import { cx } from "../../parts/cx";

/** Takes a catalogue as CSV and says what became of it. */
export function Import() {
  const load = useImportIncidents();
  return (
    <>
      <label
        className={cx(
          "cursor-pointer border border-ink px-4 py-1 focus-within:outline-2",
          "focus-within:outline-brass-text",
        )}
      >
        Import CSV
        <input
          type="file"
          accept=".csv,text/csv"
          className="sr-only"
          onChange={(e) => e.target.files?.[0] && load.mutate(e.target.files[0])}
        />
      </label>
      <span role="status" className="text-[13px] text-ink2">
        {load.error && <span className="text-verm">{load.error.message}</span>}
        {load.data &&
          `${load.data.added} added, ${load.data.replaced} replaced, ${load.data.refused} ` +
            "lines " +
            "refused" +
            (load.data.problems.length
              ? `: line ${load.data.problems[0].line}, ${load.data.problems[0].reason}`
              : "")}
      </span>
    </>
  );
}

export function AddIncident({
  open,
  setOpen,
  datasets,
}: {
  open: boolean;
  setOpen: (v: boolean) => void;
  datasets: string[];
}) {
  const add = useAddIncident();
  const [dataset, setDataset] = useState("");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget);
    const text = (name: string) => (f.get(name) as string) || undefined;
    const at = (name: string) => (text(name) ? new Date(text(name)!).toISOString() : undefined);
    const body: NewIncident = {
      dataset,
      title: text("title") ?? "",
      started_at: at("started") ?? "",
      ended_at: at("ended"),
      segment: text("segment"),
      cause: text("cause"),
      also: (text("also") ?? "").split(/[\s,;]+/).filter(Boolean),
    };
    add.mutate(body, { onSuccess: () => setOpen(false) });
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="border border-ink bg-brass-fill px-4 py-1 font-[650] text-on-brass">
        Add an incident
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ground opacity-80" />
        <Dialog.Content
          className="fixed top-20 left-1/2 w-[460px] -translate-x-1/2 border border-ink bg-ground p-6"
          aria-describedby={undefined}
        >
          <Dialog.Title className="text-[15px] font-[650]">A fault that did happen</Dialog.Title>
          <Form error={add.error} onSubmit={submit} className="mt-3 grid gap-3">
            <label>
              Dataset
              <Pick
                name="Dataset"
                value={dataset}
                options={datasets.map((d) => [d, d] as const)}
                onChange={setDataset}
                hint="choose"
              />
            </label>
            <Field label="What happened" of="title">
              <input name="title" required className={field} />
            </Field>
            <div className="grid grid-cols-2 gap-3">
              <Field label={<>Began, in {Intl.DateTimeFormat().resolvedOptions().timeZone}</>} of="started">
                <input name="started" type="datetime-local" required className={field} />
              </Field>
              <Field label="Ended, if it has" of="ended">
                <input name="ended" type="datetime-local" className={field} />
              </Field>
              <Field label="Segment, if only one" of="segment">
                <input name="segment" className={field} />
              </Field>
              <Field label="Cause" of="cause">
                <input name="cause" className={field} />
              </Field>
            </div>
            <Field label="Other datasets that it hit, if any" of="also">
              <input name="also" className={field} />
            </Field>
            <div className="flex gap-3">
              <Button type="submit" look="primary" disabled={add.isPending}>
                Add
              </Button>
              <Dialog.Close className="border border-ink px-4 py-1">Cancel</Dialog.Close>
            </div>
          </Form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
} /** Told or missed; null before anything was judged. */
