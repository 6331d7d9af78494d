import { useState } from "react";
import type { Correction, Sentence } from "../../api/client";
import { useCorrect } from "../../api/logs";
import { Choice } from "../../parts/Controls";
import { Section } from "../../parts/Page";
import { time } from "../../parts/words";
import { Button, Field, Form } from "../../parts/Form";

type What = Correction["what"];

const asks: Record<What, [string, string]> = {
  join: ["the number of the other sentence", "Both are one from now on; what differs varies."],
  hold: ["the word", "It is constant from now on, however many others come in its place."],
  vary: ["the word", "Sentences that differ in it alone become one."],
};

/** What people corrected of a sentence, and a way to correct it. */
export function Correct({ sentence }: { sentence: Sentence }) {
  const correct = useCorrect(sentence.log, sentence.number);
  const [what, setWhat] = useState<What>("join");
  const [text, setText] = useState("");
  const changes = sentence.changes;
  const send = (e: React.FormEvent) => {
    e.preventDefault();
    correct.mutate(what === "join" ? { what, with: Number(text) } : { what, word: text }, {
      onSuccess: () => setText(""),
    });
  };
  return (
    <Section title="Corrections">
      <Form error={correct.error} className="mt-1 grid gap-2" onSubmit={send}>
        <Choice
          name="Correction"
          value={what}
          options={[
            ["join", "join"],
            ["hold", "hold"],
            ["vary", "vary"],
          ]}
          onChange={setWhat}
        />
        <Field label={<>{asks[what][0]}</>}>
          <input
            className="mt-[2px] block w-full border border-ink3 bg-field px-2 py-[2px] text-ink"
            value={text}
            onChange={(e) => setText(e.target.value)}
            inputMode={what === "join" ? "numeric" : "text"}
          />
        </Field>
        <p className="text-[13px] text-ink2">{asks[what][1]}</p>
        <Button
          type="submit"
          className="justify-self-start"
          disabled={correct.isPending || text.trim() === "" || (what === "join" && !Number(text))}
        >
          {what[0].toUpperCase() + what.slice(1)}
        </Button>
        {correct.data && <p role="status">{correct.data.sentence}</p>}
      </Form>
      {changes.length > 0 && (
        <ul className="mt-2 text-[13px] text-ink2">
          {changes.slice(0, 8).map((c) => (
            <li key={`${c.at} ${c.number} ${c.part}`}>
              {time(c.at, sentence.zone, "day")}: {said(c)}
            </li>
          ))}
        </ul>
      )}
    </Section>
  );
}

const said = (c: NonNullable<Sentence["changes"]>[number]) =>
  c.what === "held"
    ? `part ${c.part} held constant by ${c.author}`
    : c.what === "varied"
      ? `part ${c.part} varies, by ${c.author}`
      : c.what === "joined"
        ? `${c.number} made part of ${c.other} by ${c.author}`
        : `${c.number} became part of ${c.other}`;
