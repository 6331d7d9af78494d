import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { answer, api } from "../api/client";
import { Glyph } from "../parts/Glyph";

/** Takes a token, typed or after the # of the address, and keeps it as a cookie. */
export function SignInPage() {
  const go = useNavigate();
  const queries = useQueryClient();
  const [token, setToken] = useState(() => window.location.hash.slice(1));
  const [wrong, setWrong] = useState("");
  const enter = async (given: string) => {
    try {
      await answer(api.POST("/api/v1/session", { body: { token: given } }));
      await queries.invalidateQueries();
      go("/", { replace: true });
    } catch (e) {
      setWrong((e as Error).message);
    }
  };
  useEffect(() => {
    if (window.location.hash.length > 1) void enter(window.location.hash.slice(1));
  }, []);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    void enter(token);
  };
  return (
    <main className="mx-auto mt-32 w-[420px]">
      <div className="flex items-center gap-2 border-b border-ink pb-3 text-[18px] font-[650]"><Glyph />Tin Bell</div>
      <h1 className="mt-4 text-[23px] leading-[28px] font-semibold">Sign in with your token.</h1>
      <p className="mt-2 text-ink2">The first administrator's token was printed when the service started; administrators make further ones with <code>tinbell token make</code>.</p>
      <form onSubmit={submit} className="mt-4 flex gap-3">
        <input aria-label="Token" className="mono grow border border-ink3 bg-field px-3 py-2" value={token} onChange={(e) => setToken(e.target.value)} placeholder="tb_…" autoFocus />
        <button className="border border-ink bg-brass-fill px-4 font-[650] text-on-brass">Sign in</button>
      </form>
      {wrong && <p role="alert" className="mt-3 border-t border-verm pt-2 text-verm">{wrong}</p>}
    </main>
  );
}
