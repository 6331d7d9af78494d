import { type FormEvent, useState } from "react";
import { useAddNote, useDropNote, useNotes } from "../../api/notes";
import { useMe } from "../../api/queries";
import { Section } from "../../parts/Page";
import { time } from "../../parts/words";
import { Button, Field, Form } from "../../parts/Form";

const link = "underline decoration-pewter-line underline-offset-3",
  field = "border border-ink3 bg-field px-2 py-[4px]";

/** What people noted on a dataset's charts, and where they do. */
export function Noted({ name, zone }: { name: string; zone: string }) {
  const notes = useNotes(name),
    me = useMe(),
    add = useAddNote(),
    drop = useDropNote();
  const [adding, setAdding] = useState(false);
  const may = me.data !== undefined && me.data.role !== "reader",
    list = notes.data ?? [];
  if (!notes.data || (list.length === 0 && !may)) return null;
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const f = new FormData(e.currentTarget),
      text = (k: string) => String(f.get(k) ?? "");
    add.mutate(
      { dataset: name, text: text("text"), ...(text("at") && { at: new Date(text("at")).toISOString() }) },
      { onSuccess: () => setAdding(false) },
    );
  };
  return (
    <Section
      className="mt-5"
      title="Notes"
      note="on its charts, for everybody"
      right={
        may &&
        !adding && (
          <Button look="text" onClick={() => setAdding(true)}>
            note something
          </Button>
        )
      }
    >
      {adding && (
        <Form
          error={add.error}
          className="mt-2 flex flex-wrap items-end gap-4"
          aria-label="new note"
          onSubmit={submit}
        >
          <Field label="What happened" of="text">
            <input
              name="text"
              required
              maxLength={500}
              className={`${field} mt-[2px] block w-[420px]`}
              placeholder="release 4.2 of the scanners"
            />
          </Field>
          <Field label="When, by your clock" of="at">
            <input name="at" type="datetime-local" className={`${field} mt-[2px] block`} />
          </Field>
          <Button type="submit" disabled={add.isPending} look="primary">
            Note
          </Button>
          <Button onClick={() => setAdding(false)}>Close</Button>
        </Form>
      )}
      {list.slice(0, 20).map((n) => (
        <p
          key={n.id}
          className="grid grid-cols-[150px_minmax(0,1fr)_auto] gap-4 border-b border-hair py-[4px]"
        >
          <span className="text-ink2">{time(n.at, zone)}</span>
          <span>
            {n.link ? (
              <a className={link} href={n.link} rel="noreferrer">
                {n.text}
              </a>
            ) : (
              n.text
            )}{" "}
            <span className="text-ink3">
              {n.author}
              {n.dataset === "" && ", on all datasets"}
            </span>
          </span>
          {may && (
            <Button look="text" onClick={() => drop.mutate(n.id)}>
              remove
            </Button>
          )}
        </p>
      ))}
      {list.length === 0 && !adding && (
        <p className="mt-2 text-ink2">
          None yet. A deployment can post one: <code>tinbell note add 'release 4.2' --dataset {name}</code>
        </p>
      )}
    </Section>
  );
}
