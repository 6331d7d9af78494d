import { useState } from "react";
import { Link } from "react-router";
import { useMonitors, useScorecard } from "../api/queries";
import { Interval } from "../chart/Interval";
import { Page, Reading, Trouble } from "../parts/Page";
import { achieved, atWorst, duration, possible, word } from "../parts/words";
import { methodName } from "./monitor/SettingsForm";

/** All monitors: how they are set, and what they have kept of what they state. */
export function MonitorsPage() {
  const monitors = useMonitors();
  const score = useScorecard();
  const [filter, setFilter] = useState("");
  const cards = new Map((score.data?.monitors ?? []).map((c) => [c.monitor, c]));
  const broken = [...cards.values()].filter((c) => c.achieved.longest_seconds !== null && c.achieved.longest_seconds < c.stated_seconds);
  const list = (monitors.data ?? []).filter((m) => `${m.name} ${m.dataset} ${m.owner} ${m.settings.method} ${m.tags!.join(" ")} ${m.inherited!.join(" ")}`.toLowerCase().includes(filter.toLowerCase()));
  const n = monitors.data?.length ?? 0;
  return (
    <Page place="Monitors" sentence={!monitors.data ? "" : n === 0 ? "No monitor yet." : `${word(n)} monitors; ${broken.length === 0 ? "none cries wolf more often than it states" : `${word(broken.length).toLowerCase()} cried wolf more often than stated`}.`}
      after="Stated is what chance alone may ring, all segments together; achieved counts labelled false alarms so far, one disturbance once; behind it, if all that is unlabelled were noise.">
      <Trouble what="Monitors" error={monitors.error} />
      {monitors.isPending && <Reading what="monitors" />}
      <input aria-label="Filter" className="mt-3 w-72 border border-ink3 bg-field px-3 py-1" placeholder="filter by name, dataset, owner, tag" value={filter} onChange={(e) => setFilter(e.target.value)} />
      <table className="mt-3 w-full border-collapse border-t border-ink">
        <thead><tr className="border-b border-rule"><th className="py-1">monitor</th><th>dataset</th><th>baseline</th><th>direction</th><th className="num">stated</th><th className="num">achieved</th><th className="num">95 %</th><th className="pl-6">precision</th><th className="num">found</th><th className="num">delay</th><th className="num">version</th></tr></thead>
        <tbody>
          {list.map((m) => {
            const c = cards.get(m.name);
            const over = c && broken.includes(c);
            return (
              <tr key={m.id} className="open-row h-[29px]">
                <td><Link to={`/monitors/${m.name}`}>{m.name}</Link>{m.paused && " (paused)"}</td>
                <td><Link to={`/datasets/${m.dataset}`}><code>{m.dataset}</code></Link></td>
                <td>{methodName(m.settings)}</td><td>{m.settings.direction}</td>
                <td className="num">1 in {duration(m.settings.warn_seconds)}</td>
                <td className={`num ${over ? "font-bold text-verm" : ""}`}>{c ? achieved(c.achieved) : "–"}{c && atWorst(c.achieved) && <span className="ml-2 font-normal text-ink3" title="if all that is unlabelled were noise">{atWorst(c.achieved)}</span>}</td>
                <td className="num text-ink2">{c && possible(c.achieved).replace("1 in ", "")}</td>
                <td className="pl-6">{c && <Interval figure={c.precision} />}</td>
                <td className="num">{c?.recall.n ? `${c.recall.k} of ${c.recall.n}` : "–"}</td>
                <td className="num">{c && c.delay_seconds.estimate !== null ? duration(c.delay_seconds.estimate) : "–"}</td>
                <td className="num">{m.learned_at ? m.version : "not fitted"}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {monitors.data && list.length === 0 && <p className="mt-3 text-ink2">{n ? "Nothing fits the filter." : <>Add one: <code>tinbell monitor add NAME METRIC</code></>}</p>}
    </Page>
  );
}
