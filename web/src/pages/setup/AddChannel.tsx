import { type FormEvent, useState } from "react";
import type { NewChannel } from "../../api/client";
import { useSetChannel } from "../../api/telling";
import { Choice } from "../../parts/Controls";
import { Section } from "../../parts/Page";
import { Button, Field, Form, field } from "../../parts/Form";
import { Option, Select } from "../../parts/Select";

/** E-mail or webhook; what was typed stays when it is refused. */
export function AddChannel() {
  const set = useSetChannel();
  const [kind, setKind] = useState<"email" | "webhook">("email");
  const [form, setForm] = useState<"cloudevent" | "chat" | "ticket" | "own">("cloudevent");
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const element = e.currentTarget,
      f = new FormData(element),
      text = (k: string) => String(f.get(k) ?? "").trim();
    const settings: NewChannel["settings"] =
      kind === "email"
        ? {
            to: text("to")
              .split(/[,\s]+/)
              .filter(Boolean),
            from: text("from"),
            host: text("host"),
            port: Number(text("port")) || undefined,
            security: text("security") as "tls",
            user: text("user") || undefined,
          }
        : { url: text("url"), form, template: form === "own" ? text("template") : undefined };
    const lines = text("headers")
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean);
    const headers = Object.fromEntries(
      lines.map((l) => [l.split(":")[0].trim(), l.slice(l.indexOf(":") + 1).trim()]),
    );
    set.mutate(
      {
        name: text("name"),
        kind,
        settings,
        secret: text("secret") || undefined,
        ...(lines.length && { headers }),
      },
      { onSuccess: () => element.reset() },
    );
  };
  return (
    <Section title="Add a channel">
      <Form error={set.error} className="mt-2 grid gap-2" aria-label="new channel" onSubmit={submit}>
        <Choice
          name="Kind"
          value={kind}
          options={[
            ["email", "e-mail"],
            ["webhook", "webhook"],
          ]}
          onChange={setKind}
        />
        <Field label="Name" of="name">
          <input name="name" required className={field} placeholder="night-desk" />
        </Field>
        {kind === "email" ? (
          <>
            <Field label="To" of="to">
              <input name="to" required className={field} placeholder="night@ferries.example" />
            </Field>
            <Field label="From" of="from">
              <input name="from" required type="email" className={field} placeholder="bell@ferries.example" />
            </Field>
            <div className="flex gap-2">
              <Field label="SMTP server" of="host">
                <input name="host" required className={field} placeholder="mail.ferries.example" />
              </Field>
              <Field label="Port" of="port">
                <input name="port" type="number" className={`${field} w-20`} placeholder="587" />
              </Field>
            </div>
            <Field label="Security" of="security">
              <Select name="security" className="w-full">
                <Option value="starttls">STARTTLS</Option>
                <Option value="tls">TLS from the start</Option>
                <Option value="none">no encryption</Option>
              </Select>
            </Field>
            <div className="flex gap-2">
              <Field label="Login" of="user">
                <input name="user" className={field} autoComplete="off" />
              </Field>
              <Field label="Password" of="secret">
                <input name="secret" type="password" className={field} autoComplete="new-password" />
              </Field>
            </div>
          </>
        ) : (
          <>
            <Field label="Address" of="url">
              <input
                name="url"
                required
                type="url"
                className={`${field} font-mono text-[12.5px]`}
                placeholder="https://chat.example/hooks/1"
              />
            </Field>
            <Field label="Headers" help="One a line." of="headers">
              <textarea
                name="headers"
                rows={2}
                spellCheck={false}
                autoComplete="off"
                className={`${field} font-mono text-[12px]`}
                placeholder={"headers, one a line: Authorization: Bearer …"}
              />
            </Field>
            <Choice
              name="Form"
              value={form}
              options={[
                ["cloudevent", "event"],
                ["chat", "chat"],
                ["ticket", "ticket"],
                ["own", "own"],
              ]}
              onChange={setForm}
            />
            {form === "own" && (
              <Field label="Template" of="template">
                <textarea
                  name="template"
                  rows={6}
                  required
                  spellCheck={false}
                  className={`${field} font-mono text-[12px]`}
                  defaultValue={
                    '{"summary": {{json .Title}}, "since": {{json .SinceUTC}}, "link": {{json .Links.Group}}}'
                  }
                />
              </Field>
            )}
            <p className="text-[13px] text-ink2">
              {
                {
                  cloudevent: "CloudEvents 1.0 as JSON, with everything there is to say.",
                  chat: "A text with its links, as chat systems take it.",
                  ticket: "Title, description, and a reference that stays the same for one fault.",
                  own: "A body of your own; it is checked before it is kept.",
                }[form]
              }{" "}
              Signed; the secret is shown once. Headers are kept encrypted, and only their names are shown.
            </p>
          </>
        )}
        <Button type="submit" disabled={set.isPending} look="primary">
          Add channel
        </Button>
        {set.data && !set.error && (
          <p role="status" className="text-ink2">
            {set.data.name} is set
            {set.data.secret && (
              <>
                ; its secret, shown once:{" "}
                <code className="break-all text-ink select-all">{set.data.secret}</code>
              </>
            )}
            . Send it a test, then lead a route to it.
          </p>
        )}
      </Form>
    </Section>
  );
}
