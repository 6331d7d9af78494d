import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { type AlertQuery, useAlerts, useLabel } from "../api/queries";
import type { Verdict } from "../api/client";
import { Mark, stateOf } from "../parts/Mark";
import { Page, Reading, Trouble } from "../parts/Page";
import { count, duration, rarity, time, word } from "../parts/words";

const filters = [["", "all"], ["open", "open"], ["none", "unlabelled"], ["fault", "fault"], ["noise", "noise"], ["planned", "planned"]] as const;

/** All alerts, open and past: filter by address, answer many at once. */
export function AlertsPage() {
  const [search, setSearch] = useSearchParams();
  const go = useNavigate();
  const show = search.get("show") ?? "";
  const query: AlertQuery = { limit: 300, dataset: search.get("dataset") ?? undefined };
  if (show === "open") query.state = "open";
  else if (show) query.verdict = show as AlertQuery["verdict"];
  const alerts = useAlerts(query);
  const label = useLabel();
  const [marked, setMarked] = useState<number[]>([]);
  const list = alerts.data?.alerts ?? [];
  const answer = (verdict: Verdict) => marked.length && label.mutate({ alerts: marked, verdict }, { onSuccess: () => setMarked([]) });
  const keys = {
    F: { does: "fault", act: () => answer("fault") },
    N: { does: "noise", act: () => answer("noise") },
    P: { does: "planned", act: () => answer("planned") },
  };
  const unanswered = list.filter((a) => !a.verdict).length;
  return (
    <Page place="Alerts" keys={keys} sentence={alerts.data ? `${word(list.length)} ${list.length === 1 ? "alert" : "alerts"}${show ? ` ${show === "none" ? "unlabelled" : show}` : ""}${query.dataset ? ` of ${query.dataset}` : ""}${show === "none" || !list.length ? "" : `, ${count(unanswered, "still without an answer", "still without an answer")}`}.` : ""}>
      <div className="mt-4 flex items-center gap-4">
        {filters.map(([value, name]) => (
          <button key={name} aria-pressed={show === value} className={show === value ? "border-b-2 border-brass-mark font-bold" : "text-ink2"} onClick={() => setSearch(value ? { show: value } : {})}>{name}</button>
        ))}
        {marked.length > 0 && <span className="text-ink2">{count(marked.length, "alert")} marked: press F, N or P</span>}
      </div>
      <Trouble what="Alerts" error={alerts.error ?? label.error} />
      {alerts.isPending && <Reading what="alerts" />}
      <table className="mt-3 w-full border-collapse border-t border-ink">
        <thead><tr className="border-b border-rule"><th className="w-7 py-1" /><th>state</th><th>what</th><th>dataset</th><th>raised</th><th>lasted</th><th>how rare</th><th>label</th></tr></thead>
        <tbody>
          {list.map((a) => (
            <tr key={a.id} className="open-row h-[31px] cursor-pointer" onClick={() => go(`/alerts/${a.id}`)}>
              <td onClick={(e) => e.stopPropagation()}><input type="checkbox" aria-label={`mark alert ${a.id}`} checked={marked.includes(a.id)} onChange={() => setMarked(marked.includes(a.id) ? marked.filter((id) => id !== a.id) : [...marked, a.id])} /></td>
              <td><Mark state={a.closed_at ? (a.severity as "warning") : stateOf({ ...a, verdict: "" })} /></td>
              <td><a href={`/alerts/${a.id}`} onClick={(e) => e.preventDefault()}>{a.sentence}</a></td>
              <td><code>{a.dataset}</code></td>
              <td className="whitespace-nowrap">{time(a.raised_at, a.zone)}</td>
              <td className="whitespace-nowrap">{a.closed_at ? duration((Date.parse(a.closed_at) - Date.parse(a.raised_at)) / 1000) : "open"}</td>
              <td className="whitespace-nowrap text-ink2">{rarity(a.return_period_seconds)}</td>
              <td>{a.verdict ? <Mark state={a.verdict as Verdict} /> : <span className="text-ink3">none</span>}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {alerts.data && list.length === 0 && <p className="mt-3 text-ink2">No such alert. <button className="underline" onClick={() => setSearch({})}>Show all</button></p>}
    </Page>
  );
}
