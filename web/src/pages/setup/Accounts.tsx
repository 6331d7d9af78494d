import { type FormEvent, useState } from "react";
import type { Person } from "../../api/client";
import { type Own, useAccounts, usePutAccount, useRemoveAccount, useSetPassword } from "../../api/people";
import { Pick } from "../../parts/Controls";
import { useZone } from "../../parts/zone";
import { Section, Trouble } from "../../parts/Page";
import { count, own, time } from "../../parts/words";
import { everywhere, patterns, roles } from "./roles";
import { Button, Field, Form, Refusal, field } from "../../parts/Form";
import { Sure } from "../../parts/Ask";
import { type Column, few, Filter, Table, useFound } from "../../parts/Table";

const owns: readonly (readonly [Own, string])[] = [
  ...roles.map(([r, label]) => [r, label] as const),
  ["none", "none: what teams give"],
];

const ways = (p: Person) =>
  [p.password && "password", p.provider && "provider", p.tokens > 0 && count(p.tokens, "token")]
    .filter(Boolean)
    .join(", ") || "no way in";

/** The accounts there are: what each may by itself, where, and how it signs in. */
export function Accounts() {
  const accounts = useAccounts(),
    zone = useZone() ?? own;
  const [open, setOpen] = useState("");
  const list = accounts.data ?? [];
  const columns: Column<Person>[] = [
    { id: "account", head: "account", fixed: true, by: (p) => p.name, cell: (p) => p.name },
    { id: "role", head: "role", by: (p) => p.role, cell: (p) => p.role },
    { id: "in", head: "in", by: (p) => everywhere(p.datasets), cell: (p) => everywhere(p.datasets) },
    { id: "teams", head: "teams", by: (p) => p.teams.join(), cell: (p) => p.teams.join(", ") || "–" },
    {
      id: "ways",
      head: "signs in by",
      by: ways,
      cell: (p) => ways(p) + (p.sessions > 0 ? `; ${count(p.sessions, "browser")} signed in` : ""),
    },
    {
      id: "seen",
      head: "last seen",
      className: "whitespace-nowrap",
      by: (p) => p.used_at,
      cell: (p) => (p.used_at ? time(p.used_at, zone) : "never"),
    },
  ];
  return (
    <Section title="Accounts" note="an account that becomes less takes its tokens along" className="mt-8">
      <Trouble what="Accounts" error={accounts.error} />
      {list.length > few && <Filter name="accounts" by="name, role or team" />}
      <Table
        name="accounts"
        columns={columns}
        rows={useFound(list, (p) => [p.name, p.role, ...p.teams].join(" "), "accounts")}
        id={(p) => p.id}
        after={(p) => (
          <Button
            look="text"
            aria-expanded={open === p.name}
            aria-label={`Change ${p.name}`}
            onClick={() => setOpen(open === p.name ? "" : p.name)}
          >
            {open === p.name ? "close" : "change"}
          </Button>
        )}
        below={(p) => open === p.name && <Change of={p} done={() => setOpen("")} />}
      />
      <New />
    </Section>
  );
}

/** What an account may, its password, and its end. */
function Change({ of, done }: { of: Person; done: () => void }) {
  const put = usePutAccount(),
    password = useSetPassword(),
    remove = useRemoveAccount();
  const [role, setRole] = useState<Own>(of.role),
    [where, setWhere] = useState(of.datasets.join(", ")),
    [secret, setSecret] = useState("");
  const wrong = put.error ?? password.error ?? remove.error;
  const save = (e: FormEvent) => {
    e.preventDefault();
    put.mutate({ name: of.name, role, datasets: patterns(where) }, { onSuccess: done });
  };
  return (
    <div className="grid grid-cols-3 max-lg:grid-cols-1 gap-8" data-change>
      <Form onSubmit={save} className="grid content-start gap-3">
        <div className="text-[13px] text-ink2">
          Role of {of.name}
          <Pick name={`Role of ${of.name}`} value={role} options={owns} onChange={setRole} />
        </div>
        <Field label="Datasets it is for: raw.*, tag:harbour; empty for all">
          <input className={field} value={where} onChange={(e) => setWhere(e.target.value)} />
        </Field>
        <Button type="submit" className="justify-self-start" disabled={put.isPending}>
          Save
        </Button>
      </Form>
      <Form
        className="grid content-start gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          password.mutate({ name: of.name, password: secret }, { onSuccess: () => setSecret("") });
        }}
      >
        <Field label="New password, of 12 characters and more">
          <input
            type="password"
            autoComplete="new-password"
            className={field}
            value={secret}
            onChange={(e) => setSecret(e.target.value)}
          />
        </Field>
        <div className="flex gap-4">
          <Button type="submit" disabled={secret === "" || password.isPending}>
            Set it, and sign its browsers out
          </Button>
          {of.password && (
            <Button look="text" onClick={() => password.mutate({ name: of.name, password: "" })}>
              take it away
            </Button>
          )}
        </div>
        {password.isSuccess && (
          <p role="status" className="text-[13px]">
            Done.
          </p>
        )}
      </Form>
      <div className="grid content-start gap-3">
        <Sure
          asks={`Remove ${of.name}?`}
          says="It goes with all its tokens, and its browsers are signed out."
          does="Remove it"
          act={() => remove.mutate(of.name, { onSuccess: done })}
        >
          remove the account
        </Sure>
      </div>
      <Refusal error={wrong} className="col-span-3" />
    </div>
  );
}

function New() {
  const put = usePutAccount();
  const [name, setName] = useState("");
  return (
    <Form
      error={put.error}
      className="mt-3 flex items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        put.mutate({ name: name.trim(), role: "reader", datasets: [] }, { onSuccess: () => setName("") });
      }}
    >
      <Field label="New account, a reader at first">
        <input className={`${field} !w-[280px]`} value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
      <Button type="submit" disabled={name.trim() === "" || put.isPending}>
        Add it
      </Button>
    </Form>
  );
}
