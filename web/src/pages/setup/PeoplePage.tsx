import { useState } from "react";
import type { Role, Token } from "../../api/client";
import { useAccounts, useMakeToken, useRevoke, useTokens } from "../../api/people";
import { useMe } from "../../api/queries";
import { Choice } from "../../parts/Controls";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { useZone } from "../../parts/zone";
import { count, own, time, word } from "../../parts/words";
import { Accounts } from "./Accounts";
import { Places } from "./Places";
import { Teams } from "./Teams";
import { roles } from "./roles";
import { Button, Field, Form, Refusal, field } from "../../parts/Form";
import { Sure } from "../../parts/Ask";
import { type Column, Table } from "../../parts/Table";

const day = 86_400;
const over = (t: Token, now: number) => t.expires_at !== null && Date.parse(t.expires_at) <= now;

const columns = (zone: string, now: number): Column<Token>[] => [
  { id: "account", head: "account", fixed: true, by: (t) => t.account, cell: (t) => t.account },
  { id: "role", head: "role", by: (t) => t.role, cell: (t) => t.role },
  { id: "in", head: "in", cell: (t) => (t.datasets?.length ? t.datasets.join(", ") : "all") },
  { id: "for", head: "for", by: (t) => t.for, cell: (t) => t.for || "–" },
  {
    id: "used",
    head: "last used",
    className: "whitespace-nowrap",
    by: (t) => t.used_at,
    cell: (t) => (t.used_at ? time(t.used_at, zone) : "never"),
  },
  {
    id: "ends",
    head: "ends",
    className: "whitespace-nowrap",
    by: (t) => t.expires_at,
    cell: (t) =>
      t.expires_at ? `${over(t, now) ? "ended " : ""}${time(t.expires_at, zone, "day")}` : "never",
  },
];

/** Who may do what: accounts with their tokens. */
export function PeoplePage() {
  const tokens = useTokens(),
    me = useMe(),
    revoke = useRevoke();
  const now = Date.parse(me.data?.now ?? new Date().toISOString());
  const list = tokens.data ?? [],
    zone = useZone() ?? own;
  const accounts = useAccounts().data,
    shut = accounts?.filter((p) => !p.password && !p.provider && p.tokens === 0).length ?? 0;
  const ended = list.filter((t) => over(t, now)).length,
    idle = list.filter((t) => !t.used_at).length;
  const sentence =
    !tokens.data || !accounts
      ? ""
      : `${word(accounts.length)} ` +
        `${accounts.length === 1 ? "account has" : "accounts have"} ` +
        count(list.length, "token") +
        (ended > 0 ? `, ${ended} of them ended` : "") +
        (idle > 0 ? `, ${idle} never used` : "") +
        (shut > 0 ? `; ${word(shut).toLowerCase()} cannot sign in yet` : "") +
        ".";
  return (
    <Page
      place={<Places here="people" />}
      sentence={sentence}
      after={
        me.data && !me.data.sign_in
          ? "The service runs without sign-in: whoever is on this machine is its administrator."
          : "A token is shown once and kept as a hash. It says at most what its account may."
      }
    >
      <Trouble what="Tokens" error={tokens.error} />
      {tokens.isPending && <Reading what="tokens" />}
      <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_364px] gap-8">
        <Section title="Tokens" note="newest first">
          <div data-tokens>
            <Table
              name="tokens"
              className="mt-1"
              columns={columns(zone, now)}
              rows={list}
              id={(t) => t.id}
              row={(t) => ({ className: over(t, now) ? "text-ink3" : "" })}
              after={(t) => <Revoke of={t} busy={revoke.isPending} act={() => revoke.mutate(t.id)} />}
            />
          </div>
          <Refusal error={revoke.error} className="mt-2" />
        </Section>
        <MakeToken />
      </div>
      <Accounts />
      <Teams />
    </Page>
  );
}

/** Taking a token back signs its bearer out at once: it is asked first. */
const Revoke = ({ of, busy, act }: { of: Token; busy: boolean; act: () => void }) => (
  <Sure
    asks={`Take back the token of ${of.account}?`}
    says={`${of.for ? `It is for: ${of.for}. ` : ""}Whoever bears it is signed out at once.`}
    does="Take it back"
    act={act}
    disabled={busy}
    aria-label={`take back the token of ${of.account}`}
  >
    take back
  </Sure>
);

function MakeToken() {
  const make = useMakeToken();
  const [name, setName] = useState(""),
    [role, setRole] = useState<Role>("responder"),
    [what, setWhat] = useState(""),
    [ends, setEnds] = useState("90");
  return (
    <Section title="Make a token">
      <Form
        error={make.error}
        className="mt-2 grid gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(
            {
              name: name.trim(),
              role,
              for: what.trim() || undefined,
              expires_seconds: Number(ends) * day || undefined,
            },
            {
              onSuccess: () => {
                setName("");
                setWhat("");
              },
            },
          );
        }}
      >
        <Field label="Account, made if it is new">
          <input className={field} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
        <div>
          <Choice
            name="Role"
            value={role}
            options={roles.map(([r, label]) => [r, label] as const)}
            onChange={setRole}
          />
          <p className="mt-1 text-[13px] text-ink2">It {roles.find(([r]) => r === role)![2]}.</p>
        </div>
        <Field label="What it is for">
          <input className={field} value={what} onChange={(e) => setWhat(e.target.value)} />
        </Field>
        <div className="flex items-center gap-3 text-[13px] text-ink2">
          ends after
          <Choice
            name="Ends after"
            value={ends}
            options={[
              ["30", "30 d"],
              ["90", "90 d"],
              ["365", "a year"],
              ["", "never"],
            ]}
            onChange={setEnds}
          />
        </div>
        <Button
          type="submit"
          look="primary"
          className="justify-self-start"
          disabled={make.isPending || name.trim() === ""}
        >
          Make it
        </Button>
        {make.data && (
          <p role="status">
            Shown once:{" "}
            <code className="break-all" data-made>
              {make.data.token}
            </code>
          </p>
        )}
      </Form>
    </Section>
  );
}
