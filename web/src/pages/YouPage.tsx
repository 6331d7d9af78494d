import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import {
  useChangePassword,
  useEndSession,
  useMakeMyToken,
  useMyTokens,
  useRevokeMine,
  useSessions,
  useSignOut,
} from "../api/people";
import { useMe } from "../api/queries";
import { useZone } from "../parts/zone";
import { Page, Section, Trouble } from "../parts/Page";
import { count, own, time } from "../parts/words";
import { everywhere } from "./setup/roles";
import { Button, Field, Form, field } from "../parts/Form";

/** A browser by its name and system, of all that it says of itself. */
function browser(agent: string) {
  const name = ["Edg", "OPR", "Firefox", "Chrome", "Safari"].find((n) => agent.includes(n + "/")),
    system = ["Android", "iPhone", "iPad", "Windows", "Mac OS X", "Linux"].find((n) => agent.includes(n));
  return name ? `${{ Edg: "Edge", OPR: "Opera" }[name] ?? name}${system ? ` on ${system}` : ""}` : agent;
}

/** Who one is here, what one may, and where one is signed in. */
export function YouPage() {
  const me = useMe(),
    sessions = useSessions(),
    end = useEndSession(),
    out = useSignOut();
  const zone = useZone() ?? own,
    go = useNavigate(),
    queries = useQueryClient();
  const leave = (all: boolean) =>
    out.mutate(all, {
      onSuccess: () => {
        queries.clear();
        go("/sign-in", { replace: true });
      },
    });
  const list = sessions.data ?? [],
    within = me.data?.within ?? [];
  const sentence = !me.data
    ? ""
    : !me.data.sign_in
      ? "Nobody signs in here: whoever is on this machine is the administrator."
      : `You are ${me.data.name}, ` +
        `${me.data.role}${list.length > 0 ? `, signed in on ${count(list.length, "browser")}` : ""}.`;
  return (
    <Page
      place="You"
      sentence={sentence}
      after={
        within.length > 0 ? `The token you signed in with is for ${within.join(", ")} alone.` : undefined
      }
    >
      <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_364px] gap-8">
        <div className="grid content-start gap-6">
          <Section title="What you may">
            <table className="mt-1 w-full border-collapse" data-grants>
              <tbody>
                {me.data?.grants
                  ?.filter((g) => g.role !== "none")
                  .map((g, i) => (
                    <tr key={i} className="h-[29px]">
                      <td>{g.role}</td>
                      <td className="pl-3 text-ink2">in {everywhere(g.datasets)}</td>
                      <td className="pl-3 text-ink2">{g.team ? `as a member of ${g.team}` : "yourself"}</td>
                    </tr>
                  ))}
              </tbody>
            </table>
          </Section>
          <Section title="Where you are signed in" note="a browser that is not used is signed out by itself">
            <Trouble what="Sessions" error={sessions.error ?? end.error ?? out.error} />
            <table className="mt-1 w-full border-collapse" data-sessions>
              <tbody>
                {list.map((s) => (
                  <tr key={s.id} className="h-[29px]">
                    <td>{s.here ? "here" : s.origin}</td>
                    <td className="max-w-[380px] truncate pl-3 text-ink2" title={s.agent}>
                      {browser(s.agent)}
                    </td>
                    <td className="pl-3 text-ink2">by {s.by}</td>
                    <td className="pl-3 whitespace-nowrap text-ink2">{time(s.used_at, zone)}</td>
                    <td className="num">
                      {!s.here && (
                        <Button look="text" onClick={() => end.mutate(s.id)}>
                          sign it out
                        </Button>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            <div className="mt-3 flex gap-4">
              <Button onClick={() => leave(false)}>Sign out</Button>
              <Button look="text" onClick={() => leave(true)}>
                sign out everywhere
              </Button>
            </div>
          </Section>
        </div>
        {me.data?.sign_in && (
          <div className="grid content-start gap-6">
            <Password name={me.data.name} />
            <Tokens zone={zone} />
          </div>
        )}
      </div>
    </Page>
  );
}

function Password({ name }: { name: string }) {
  const change = useChangePassword();
  const [before, setBefore] = useState(""),
    [next, setNext] = useState("");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    change.mutate(
      { password_before: before || undefined, password: next },
      {
        onSuccess: () => {
          setBefore("");
          setNext("");
        },
      },
    );
  };
  return (
    <Section title="Password">
      <Form error={change.error} onSubmit={submit} className="mt-2 grid gap-3">
        <input type="text" name="username" autoComplete="username" value={name} readOnly hidden />
        <Field label="Until now, if you have one">
          <input
            type="password"
            autoComplete="current-password"
            className={field}
            value={before}
            onChange={(e) => setBefore(e.target.value)}
          />
        </Field>
        <Field label="From now on: 12 characters and more">
          <input
            type="password"
            autoComplete="new-password"
            className={field}
            value={next}
            onChange={(e) => setNext(e.target.value)}
          />
        </Field>
        <Button type="submit" className="justify-self-start" disabled={next === "" || change.isPending}>
          Change it
        </Button>
        {change.isSuccess && <p role="status">Changed; all other browsers are signed out.</p>}
      </Form>
    </Section>
  );
}

/** One's own tokens, for a notebook or a program: each says at most what one may. */
function Tokens({ zone }: { zone: string }) {
  const tokens = useMyTokens(),
    make = useMakeMyToken(),
    revoke = useRevokeMine();
  const [what, setWhat] = useState("");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate(
      { for: what.trim() || undefined, expires_seconds: 90 * 86_400 },
      { onSuccess: () => setWhat("") },
    );
  };
  return (
    <Section title="Your tokens" note="for a notebook or a program">
      <Trouble what="Tokens" error={tokens.error ?? revoke.error} />
      <table className="mt-1 w-full border-collapse">
        <tbody>
          {tokens.data?.map((t) => (
            <tr key={t.id} className="h-[29px]">
              <td>{t.for || t.role}</td>
              <td className="pl-3 text-ink2">
                {t.expires_at ? `ends ${time(t.expires_at, zone, "day")}` : "never ends"}
              </td>
              <td className="num">
                <Button
                  look="text"
                  aria-label={`take back the token ${t.for || t.id}`}
                  onClick={() => revoke.mutate(t.id)}
                >
                  take back
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Form error={make.error} onSubmit={submit} className="mt-2 flex items-end gap-3">
        <Field label="What it is for; it ends after 90 days" className="grow">
          <input className={field} value={what} onChange={(e) => setWhat(e.target.value)} />
        </Field>
        <Button type="submit" disabled={make.isPending}>
          Make one
        </Button>
      </Form>
      {make.data && (
        <p role="status" className="mt-2">
          Shown once: <code className="break-all">{make.data.token}</code>
        </p>
      )}
    </Section>
  );
}
