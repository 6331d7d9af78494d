import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { useIncidentOf } from "../api/learning";
import { type AlertQuery, useAlerts, useLabel } from "../api/queries";
import type { Verdict } from "../api/client";
import { Mark, stateOf } from "../parts/Mark";
import { Download } from "../parts/Download";
import { Page, Reading, Trouble } from "../parts/Page";
import { count, duration, rarity, time, word } from "../parts/words";

const filters = [["", "all"], ["open", "open"], ["none", "unlabelled"], ["fault", "fault"], ["noise", "noise"], ["planned", "planned"], ["disputed", "disputed"], ["held", "held back"]] as const;
const scopes = ["dataset", "monitor", "measure", "segment", "owner", "tag", "rule", "channel", "from"] as const;

const scopeWords: Partial<Record<(typeof scopes)[number], string>> = { tag: "tagged", rule: "by the rule", channel: "told on" };

/** All alerts, open and past: filter by address, answer many at once. */
export function AlertsPage() {
  const [search, setSearch] = useSearchParams();
  const go = useNavigate();
  const show = search.get("show") ?? "";
  const held = search.get("held") as "held" | "shadow" | null;
  const query: AlertQuery = { limit: 300 };
  for (const s of scopes) if (search.get(s)) query[s] = s === "from" ? new Date(search.get(s)!).toISOString() : search.get(s)!;
  if (query.from && /^\d{4}-\d\d-01$/.test(search.get("from")!)) query.to = new Date(Date.UTC(Number(search.get("from")!.slice(0, 4)), Number(search.get("from")!.slice(5, 7)), 1)).toISOString();
  const scope = scopes.filter((s) => search.get(s)).map((s) => (s === "from" ? `of ${search.get(s)!.slice(0, 7)}` : `${scopeWords[s] ?? "of"} ${search.get(s)}`)).join(" ");
  if (held) query.held = held;
  if (show === "open") query.state = "open";
  else if (show === "disputed") query.disputed = true;
  else if (show === "held") query.held = "held";
  else if (show) query.verdict = show as AlertQuery["verdict"];
  const alerts = useAlerts(query);
  const label = useLabel();
  const incident = useIncidentOf();
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
    <Page place="Alerts" keys={keys} sentence={alerts.data ? `${word(list.length)} ${list.length === 1 ? "alert" : "alerts"}${show ? ` ${show === "none" ? "unlabelled" : show}` : ""}${held === "shadow" ? " that the filter would hold back" : held === "held" ? " that the filter holds back" : ""}${scope ? ` ${scope}` : ""}${show === "none" || !list.length ? "" : `, ${count(unanswered, "still without an answer", "still without an answer")}`}.` : ""}>
      <div className="mt-4 flex items-center gap-4">
        {filters.map(([value, name]) => (
          <button key={name} aria-pressed={show === value} className={show === value ? "border-b-2 border-brass-mark font-bold" : "text-ink2"} onClick={() => setSearch({ ...Object.fromEntries(scopes.filter((s) => search.get(s)).map((s) => [s, search.get(s)!])), ...(value && { show: value }) })}>{name}</button>
        ))}
        {marked.length > 0 && <span className="text-ink2">{count(marked.length, "alert")} marked: press F, N or P, or <button className="underline decoration-pewter-line underline-offset-3" onClick={() => incident.mutate({ alerts: marked }, { onSuccess: (i) => { setMarked([]); go(`/incidents?show=${i.reference}`); } })}>make an incident of them</button></span>}
        {scope && <button className="underline decoration-pewter-line underline-offset-3" onClick={() => setSearch(show ? { show } : {})}>all datasets</button>}
        <span className="ml-auto"><Download name="All" path="/alerts/export" query={{ dataset: search.get("dataset") ?? undefined, monitor: search.get("monitor") ?? undefined }} /></span>
      </div>
      <Trouble what="Alerts" error={alerts.error ?? label.error ?? incident.error} />
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
              <td className="whitespace-nowrap">{a.verdict ? <Mark state={a.verdict as Verdict} /> : a.held ? <span className="text-ink2" title={a.held_why}>{a.held === "held" ? "held back" : "would be held"}</span> : <span className="text-ink3">none</span>}{a.disputed && <b className="ml-2 text-brass-text" title="people do not agree on it">disputed</b>}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {alerts.data && list.length === 0 && <p className="mt-3 text-ink2">No such alert. <button className="underline" onClick={() => setSearch({})}>Show all</button></p>}
    </Page>
  );
}
