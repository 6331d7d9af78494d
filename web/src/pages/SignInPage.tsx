import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { answer, api } from "../api/client";
import { useWaysIn } from "../api/people";
import { Glyph } from "../parts/Glyph";
import { Button, Field, Form } from "../parts/Form";

type Given = { token: string } | { name: string; password: string };

const field = "mt-[2px] block w-full border border-ink3 bg-field px-3 py-2 text-ink";
const button = "border border-ink bg-brass-fill px-4 py-2 font-[650] text-on-brass";

/** Takes a name and password, a token (typed or after the # of the address), or leads to the provider. */
export function SignInPage() {
  const go = useNavigate(),
    queries = useQueryClient(),
    ways = useWaysIn();
  const [asked] = useSearchParams();
  const [byToken, setByToken] = useState(false);
  const [name, setName] = useState(""),
    [password, setPassword] = useState(""),
    [token, setToken] = useState(() => window.location.hash.slice(1));
  const {
    mutate: enter,
    error,
    reset,
  } = useMutation({
    mutationFn: (body: Given) => answer(api.POST("/api/v1/session", { body })),
    onSuccess: async () => {
      await queries.invalidateQueries();
      await go("/", { replace: true });
    },
  });
  const wrong = error?.message ?? asked.get("wrong") ?? "";
  useEffect(() => {
    // Once, as the page comes: a link carries the token behind its hash.
    if (window.location.hash.length > 1) enter({ token: window.location.hash.slice(1) });
  }, [enter]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    enter(byToken ? { token } : { name, password });
  };
  return (
    <main className="mx-auto mt-[14vh] w-[420px] max-w-full px-4">
      <div className="flex items-center gap-2 border-b border-ink pb-3 text-[18px] font-[650]">
        <Glyph />
        Tin Bell
      </div>
      <h1 className="mt-4 text-[23px] leading-[28px] font-semibold">Sign in.</h1>
      {ways.data?.provider && (
        <a className={`plain mt-4 block text-center ${button}`} href="/sign-in/provider">
          Through {ways.data.provider}
        </a>
      )}
      <Form onSubmit={submit} className="mt-4 grid gap-3">
        {byToken ? (
          <Field label="Token">
            <input
              className={`mono ${field}`}
              value={token}
              onChange={(e) => setToken(e.target.value)}
              placeholder="tb_…"
              autoFocus
              autoComplete="off"
            />
          </Field>
        ) : (
          <>
            <Field label="Name">
              <input
                className={field}
                autoComplete="username"
                value={name}
                onChange={(e) => setName(e.target.value)}
              />
            </Field>
            <Field label="Password">
              <input
                type="password"
                autoComplete="current-password"
                className={field}
                value={password}
                onChange={(e) => setPassword(e.target.value)}
              />
            </Field>
          </>
        )}
        <div className="flex items-center justify-between">
          <button className={ways.data?.provider ? "border border-ink px-4 py-2" : button}>Sign in</button>
          <Button
            look="text"
            onClick={() => {
              setByToken(!byToken);
              reset();
            }}
          >
            {byToken ? "with name and password" : "with a token"}
          </Button>
        </div>
      </Form>
      {wrong && (
        <p role="alert" className="mt-4 border-t border-verm pt-2 text-verm">
          {wrong}
        </p>
      )}
      {byToken && (
        <p className="mt-4 text-[13px] text-ink2">
          The first administrator's token was printed when the service started; administrators make further
          ones with <code>tinbell token make</code>.
        </p>
      )}
    </main>
  );
}
