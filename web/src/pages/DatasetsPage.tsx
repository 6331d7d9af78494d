import { useNavigate } from "react-router";
import type { Health } from "../api/client";
import { useHealth, useMe, useScorecard } from "../api/queries";
import { DeviationMark, Interval } from "../chart/Interval";
import { Spark } from "../chart/Small";
import { Mark, type State } from "../parts/Mark";
import { Page, Reading, Trouble } from "../parts/Page";
import { duration, number, signed, time, word } from "../parts/words";

/** Datasets without a load come first, then the furthest from expected. */
const byDeviation = (a: Health, b: Health) => rank(b) - rank(a);
const rank = (h: Health) => (h.load?.overdue ? 1000 : 0) + (h.worst ? 100 : 0) + Math.abs(h.deviation_24h ?? 0);

function sentence(list: Health[]): string {
  if (list.length === 0) return "No dataset is watched yet.";
  const calm = list.filter((h) => !h.worst && h.state !== "failed").length;
  const late = list.filter((h) => h.load?.overdue).length;
  const failed = list.filter((h) => h.state === "failed").length;
  const more = [late && `${word(late).toLowerCase()} ${late === 1 ? "loader has" : "loaders have"} stopped`, failed && `${word(failed).toLowerCase()} cannot be read`].filter(Boolean);
  return `${word(calm)} of ${word(list.length).toLowerCase()} datasets arrive as expected${more.length ? `; ${more.join(" and ")}` : ""}.`;
}

export function DatasetsPage() {
  const health = useHealth();
  const me = useMe();
  const score = useScorecard();
  const go = useNavigate();
  const list = [...(health.data ?? [])].sort(byDeviation);
  return (
    <Page place={`Datasets, all ${list.length}`} sentence={health.data ? sentence(list) : ""}>
      <Trouble what="Datasets" error={health.error} />
      {health.isPending && <Reading what="datasets" />}
      {health.data && list.length === 0 && <p className="mt-3 text-ink2">Add one from the command line: <code>tinbell dataset add SOURCE schema.table</code></p>}
      <table className="mt-4 w-full border-collapse border-t border-ink">
        <thead>
          <tr className="border-b border-rule align-bottom">
            <th className="py-1">dataset</th><th>rows against band, 7 days</th><th className="num">rows, 24 h</th><th className="num">rows, 7 d</th>
            <th className="w-[92px] pl-4 text-center whitespace-nowrap font-bold text-ink">deviation, 24 h ▾<br /><span className="font-normal text-ink2">−1 0 +1</span></th><th />
            <th className="num">newest load</th><th className="num pr-5">next by</th><th>loader</th><th>open alerts</th>
            <th>precision<br /><span className="flex w-[60px] justify-between"><i>0</i><i>1</i></span></th><th />
          </tr>
        </thead>
        <tbody>
          {list.map((h) => {
            const cards = (score.data?.monitors ?? []).filter((c) => c.dataset === h.dataset.name);
            const k = cards.reduce((n, c) => n + c.faults, 0), n = cards.reduce((sum, c) => sum + c.faults + c.noise, 0);
            return (
              <tr key={h.dataset.name} tabIndex={0} className="open-row h-[37px] cursor-pointer" onClick={() => go(`/datasets/${h.dataset.name}`)} onKeyDown={(e) => e.key === "Enter" && go(`/datasets/${h.dataset.name}`)}>
                <td className={h.worst ? "font-semibold" : ""}><code>{h.dataset.name}</code></td>
                <td><Spark spark={h.spark} /></td>
                <td className="num">{number(h.rows_24h)}</td>
                <td className="num">{number(h.rows_7d)}</td>
                <td className="pl-4"><DeviationMark value={h.deviation_24h} /></td>
                <td className={`num pr-2 ${Math.abs(h.deviation_24h ?? 0) > 1 ? "font-bold text-verm" : ""}`}>{h.deviation_24h === null ? "–" : signed(h.deviation_24h)}</td>
                <td className={`num ${h.load?.overdue ? "font-bold text-verm" : ""}`}>{h.age_seconds === null ? "–" : duration(h.age_seconds)}</td>
                <td className="num pr-5">{h.load ? when(h, me.data?.now) : "–"}</td>
                <td title={h.message}><Mark state={(h.state === "overdue" ? "silent" : h.state) as State} /></td>
                <td>{h.worst ? <Mark state={h.worst as State} word={h.open_alerts > 1 ? `${h.worst}, +${h.open_alerts - 1}` : h.worst} /> : <span className="text-ink3">none</span>}</td>
                <td>{n > 0 && <Interval width={60} figure={wilson(k, n)} />}</td>
                <td className="num">{n > 0 ? (k / n).toFixed(2) : "–"}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </Page>
  );
}

function when(h: Health, now?: string): string {
  const at = h.load!.deadline, zone = h.dataset.zone;
  const today = now && time(now, zone, "day") === time(at, zone, "day");
  return today ? time(at, zone, "time") : time(at, zone, "short");
}

/** Wilson's 95 % interval of a share. */
function wilson(k: number, n: number) {
  const z2 = 3.8415, p = k / n;
  const centre = (p + z2 / (2 * n)) / (1 + z2 / n);
  const half = (Math.sqrt(z2) / (1 + z2 / n)) * Math.sqrt((p * (1 - p)) / n + z2 / (4 * n * n));
  return { estimate: p, low: Math.max(centre - half, 0), high: Math.min(centre + half, 1), k, n };
}
