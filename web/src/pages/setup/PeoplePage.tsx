import { useState } from "react";
import type { Role, Token } from "../../api/client";
import { useMakeToken, useRevoke, useSetRole, useTokens } from "../../api/people";
import { useMe } from "../../api/queries";
import { Choice } from "../../parts/Controls";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { useZone } from "../../parts/Masthead";
import { count, own, time, word } from "../../parts/words";
import { Places } from "./Places";

const roles: readonly (readonly [Role, string, string])[] = [
  ["reader", "reader", "looks at everything but people"],
  ["responder", "responder", "also labels, takes, snoozes, and writes incidents and notes"],
  ["editor", "editor", "also sets up what is measured, watched and told, and pushes"],
  ["admin", "admin", "also looks after sources, channels, people and secrets"],
];

const day = 86_400;
const over = (t: Token, now: number) => t.expires_at !== null && Date.parse(t.expires_at) <= now;

/** Who may do what: accounts with their tokens. */
export function PeoplePage() {
  const tokens = useTokens(), me = useMe(), revoke = useRevoke(), change = useSetRole();
  const now = Date.parse(me.data?.now ?? new Date().toISOString());
  const list = tokens.data ?? [], zone = useZone() ?? own;
  const accounts = [...new Set(list.map((t) => t.account))].sort();
  const ended = list.filter((t) => over(t, now)).length, idle = list.filter((t) => !t.used_at).length;
  const sentence = !tokens.data ? "" : `${word(accounts.length)} ${accounts.length === 1 ? "account has" : "accounts have"} ${count(list.length, "token")}${ended > 0 ? `, ${ended} of them ended` : ""}${idle > 0 ? `, ${idle} never used` : ""}.`;
  return (
    <Page place={<Places here="people" />} sentence={sentence} after={me.data && !me.data.sign_in ? "The service runs without sign-in: whoever is on this machine is its administrator." : "A token is shown once and kept as a hash. It says at most what its account may."}>
      <Trouble what="Tokens" error={tokens.error} />
      {tokens.isPending && <Reading what="tokens" />}
      <div className="mt-4 grid grid-cols-[minmax(0,1fr)_364px] gap-8">
        <Section title="Tokens" note="newest first">
          <table className="mt-1 w-full border-collapse" data-tokens>
            <thead><tr><th className="py-1">account</th><th className="pl-3">role</th><th className="pl-3">for</th><th className="pl-3">last used</th><th className="pl-3">ends</th><th /></tr></thead>
            <tbody>
              {list.map((t) => (
                <tr key={t.id} className={`h-[29px] ${over(t, now) ? "text-ink3" : ""}`}>
                  <td>{t.account}</td><td className="pl-3">{t.role}</td><td className="pl-3 text-ink2">{t.for || "–"}</td>
                  <td className="pl-3 whitespace-nowrap text-ink2">{t.used_at ? time(t.used_at, zone) : "never"}</td>
                  <td className="pl-3 whitespace-nowrap text-ink2">{t.expires_at ? `${over(t, now) ? "ended " : ""}${time(t.expires_at, zone, "day")}` : "never"}</td>
                  <td className="num"><Revoke of={t} busy={revoke.isPending} act={() => revoke.mutate(t.id)} /></td>
                </tr>
              ))}
            </tbody>
          </table>
          {revoke.error && <p role="alert" className="mt-2 text-verm">{revoke.error.message}</p>}
          <Section title="Accounts" note="a role that becomes less takes the tokens along" className="mt-6">
            {accounts.map((name) => <Account key={name} name={name} tokens={list.filter((t) => t.account === name)} busy={change.isPending} act={(role) => change.mutate({ name, role })} />)}
            {change.error && <p role="alert" className="mt-2 text-verm">{change.error.message}</p>}
          </Section>
        </Section>
        <MakeToken />
      </div>
    </Page>
  );
}

/** Taking a token back signs its bearer out at once: it is asked twice. */
function Revoke({ of, busy, act }: { of: Token; busy: boolean; act: () => void }) {
  const [sure, ask] = useState(false);
  if (!sure) return <button className="underline decoration-pewter-line underline-offset-3" onClick={() => ask(true)} aria-label={`Take the token of ${of.account} back`}>take back</button>;
  return <span className="whitespace-nowrap"><button disabled={busy} className="border border-verm px-2 text-verm" onClick={act}>yes, sign it out</button> <button className="ml-2" onClick={() => ask(false)}>keep</button></span>;
}

function Account({ name, tokens, busy, act }: { name: string; tokens: Token[]; busy: boolean; act: (role: Role) => void }) {
  const most = roles.reduce<Role>((best, [r]) => (tokens.some((t) => t.role === r) ? r : best), "reader");
  return (
    <div className="flex items-center justify-between gap-4 border-b border-hair py-[5px]">
      <span>{name}<span className="ml-3 text-[13px] text-ink2">{count(tokens.length, "token")}, at most {most}</span></span>
      <span className="flex items-center gap-2 text-[13px] text-ink2">make it<Choice name={`Role of ${name}`} value={"" as Role} options={roles.map(([r, label]) => [r, label] as const)} onChange={(r) => !busy && act(r)} /></span>
    </div>
  );
}

function MakeToken() {
  const make = useMakeToken();
  const [name, setName] = useState(""), [role, setRole] = useState<Role>("responder"), [what, setWhat] = useState(""), [ends, setEnds] = useState("90");
  const field = "mt-[2px] block w-full border border-ink3 bg-field px-3 py-[4px] text-ink";
  return (
    <Section title="Make a token">
      <form className="mt-2 grid gap-3" onSubmit={(e) => {
        e.preventDefault();
        make.mutate({ name: name.trim(), role, for: what.trim() || undefined, expires_seconds: Number(ends) * day || undefined }, { onSuccess: () => { setName(""); setWhat(""); } });
      }}>
        <label className="text-[13px] text-ink2">Account, made if it is new<input className={field} value={name} onChange={(e) => setName(e.target.value)} /></label>
        <div>
          <Choice name="Role" value={role} options={roles.map(([r, label]) => [r, label] as const)} onChange={setRole} />
          <p className="mt-1 text-[13px] text-ink2">It {roles.find(([r]) => r === role)![2]}.</p>
        </div>
        <label className="text-[13px] text-ink2">What it is for<input className={field} value={what} onChange={(e) => setWhat(e.target.value)} /></label>
        <div className="flex items-center gap-3 text-[13px] text-ink2">ends after<Choice name="Ends after" value={ends} options={[["30", "30 d"], ["90", "90 d"], ["365", "a year"], ["", "never"]]} onChange={setEnds} /></div>
        <button className="justify-self-start border border-ink bg-brass-fill px-3 py-[4px] font-[650] text-on-brass disabled:border-ink3 disabled:bg-well disabled:text-ink3" disabled={make.isPending || name.trim() === ""}>Make it</button>
        {make.error && <p role="alert" className="text-verm">{make.error.message}</p>}
        {make.data && <p role="status">Shown once: <code className="break-all" data-made>{make.data.token}</code></p>}
      </form>
    </Section>
  );
}
