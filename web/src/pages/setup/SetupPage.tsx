import { useSearchParams } from "react-router";
import { useMetrics, useSources, useSteer, useTasks } from "../../api/setup";
import { Mark } from "../../parts/Mark";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { count, time, word } from "../../parts/words";
import { AddSource } from "./AddSource";
import { Files } from "./Files";
import { Metrics } from "./Metrics";
import { Places } from "./Places";
import { Tables } from "./Tables";
import { Button, Refusal } from "../../parts/Form";
import { cx } from "../../parts/cx";
import type { Source } from "../../api/client";
import { type Column, Table } from "../../parts/Table";

/** Sources and what is measured of them: from an address to the first chart without leaving. */
export function SetupPage() {
  const sources = useSources(),
    metrics = useMetrics();
  const [search, setSearch] = useSearchParams();
  const list = sources.data ?? [];
  const chosen = list.find((s) => s.name === search.get("source"));
  const failed = list.filter((s) => s.state === "failed");
  const unread = [
    ...new Set(
      (metrics.data ?? []).filter((m) => m.state === "failed" && !failed.length).map((m) => m.dataset),
    ),
  ];
  const sentence =
    !sources.data || !metrics.data
      ? ""
      : list.length === 0
        ? "Nothing is measured yet: add a source."
        : `${word(list.length)} ${list.length === 1 ? "source" : "sources"}, ` +
          `${count(new Set(metrics.data.map((m) => m.dataset)).size, "dataset")}, ` +
          count(metrics.data.length, "metric") +
          (failed.length + unread.length === 0
            ? ", and all can be read"
            : `; ${[...failed.map((s) => s.name), ...unread].join(" and ")} cannot be read`) +
          ".";
  return (
    <Page place={<Places here="sources" />} sentence={sentence}>
      <Trouble what="Sources" error={sources.error} />
      {sources.isPending && <Reading what="sources" />}
      <div className="mt-4 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_364px] gap-8">
        <Section title="Sources" note="warehouses, folders, and what others push">
          <Table
            name="sources"
            words={(s) => `${s.name} ${s.kind} ${s.address}`}
            className="mt-1"
            columns={columns(chosen?.name)}
            rows={list}
            id={(s) => s.id}
            after={(s) =>
              s.kind !== "push" && (
                <Button
                  aria-pressed={chosen?.id === s.id}
                  look="text"
                  onClick={() => setSearch(chosen?.id === s.id ? {} : { source: s.name })}
                >
                  {chosen?.id === s.id ? "close" : s.kind === "folder" ? "files" : "tables"}
                </Button>
              )
            }
          />
        </Section>
        <AddSource onAdded={(s) => setSearch({ source: s.name })} />
      </div>
      {chosen?.kind === "postgresql" && <Tables source={chosen.name} />}
      {chosen?.kind === "folder" && <Files source={chosen.name} />}
      {metrics.data && metrics.data.length > 0 && <Metrics list={metrics.data} />}
      <Work />
    </Page>
  );
}

const columns = (chosen?: string): Column<Source>[] => [
  {
    id: "name",
    head: "source",
    fixed: true,
    by: (s) => s.name,
    cell: (s) => <span className={chosen === s.name ? "font-bold" : ""}>{s.name}</span>,
  },
  { id: "kind", head: "kind", className: "text-ink2", by: (s) => s.kind, cell: (s) => s.kind },
  {
    id: "where",
    head: "where",
    className: "max-w-[420px] truncate",
    cell: (s) => <code>{s.address || "sent to /api/v1/samples and /v1/metrics"}</code>,
  },
  {
    id: "state",
    head: "state",
    by: (s) => s.state,
    cell: (s) => (
      <>
        {s.state === "failed" ? (
          <Mark state="failed" word="failed" />
        ) : (
          <span className="text-ink2">ready</span>
        )}
        {s.message && <span className="block text-[13px] text-verm">{s.message}</span>}
      </>
    ),
  },
];

/** Backfills and fits: those under way with their handles, then the last few. */
function Work() {
  const tasks = useTasks();
  const steer = useSteer();
  const shown = (tasks.data ?? []).slice(0, 8);
  if (shown.length === 0) return null;
  return (
    <Section className="mt-6" title="Long work" note="backfills and fits, those under way first">
      <Refusal error={steer.error} className="mt-1" />
      <table className="mt-1 w-full border-collapse">
        <tbody>
          {shown.map((t) => {
            const share = t.state === "done" ? 1 : t.total ? t.done / t.total : 0;
            return (
              <tr key={t.id} className="h-[27px]">
                <td className="w-[84px] text-ink2">{t.what}</td>
                <td className="max-w-[520px] truncate">{t.subject}</td>
                <td className="w-[220px]">
                  <span
                    className="relative block h-[7px] border border-ink3"
                    role="progressbar"
                    aria-valuenow={Math.round(share * 100)}
                    aria-label={`${t.what} of ${t.subject}`}
                  >
                    <i className="absolute inset-y-0 left-0 bg-ink" style={{ width: `${share * 100}%` }} />
                  </span>
                </td>
                <td className="num w-[60px]">{Math.round(share * 100)} %</td>
                <td
                  className={cx(
                    "w-[90px] pl-4",
                    t.state === "failed" ? "font-semibold text-verm" : "text-ink2",
                  )}
                >
                  {t.state}
                </td>
                <td className="max-w-[260px] truncate text-[13px] text-ink2" title={t.message}>
                  {t.message || time(t.started_at, "UTC", "short") + " UTC"}
                </td>
                <td className="num w-[130px]">
                  {t.what === "backfill" && t.state === "running" && (
                    <Handle verb="pause" act={() => steer.mutate({ id: t.id, verb: "pause" })} />
                  )}
                  {t.what === "backfill" && (t.state === "paused" || t.state === "failed") && (
                    <Handle verb="resume" act={() => steer.mutate({ id: t.id, verb: "resume" })} />
                  )}
                  {t.what === "backfill" && (t.state === "running" || t.state === "paused") && (
                    <Handle verb="cancel" act={() => steer.mutate({ id: t.id, verb: "cancel" })} />
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </Section>
  );
}

const Handle = ({ verb, act }: { verb: string; act: () => void }) => (
  <Button look="text" className="ml-3" onClick={act}>
    {verb}
  </Button>
);
