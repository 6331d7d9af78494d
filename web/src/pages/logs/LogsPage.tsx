import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { Differs, Said } from "../../api/client";
import {
  type Against,
  type Severity,
  useFoundSentences,
  useLogComparison,
  useLogs,
  useSentences,
} from "../../api/logs";
import { Choice } from "../../parts/Controls";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { count, number, percent, time } from "../../parts/words";
import { Bars, grave, spoken, Words } from "./Parts";
import { Button, Refusal } from "../../parts/Form";
import { cx } from "../../parts/cx";
import { type Column, Table } from "../../parts/Table";
import { useNow } from "../../api/queries";
import { Told } from "./Told";

const ways: Record<string, string> = {
  new: "never said before",
  vanished: "no longer said",
  more: "more often",
  less: "less often",
};

/** The sentences that a loader's lines are made from, what differs, and what is told. */
export function LogsPage() {
  const { name } = useParams();
  const go = useNavigate();
  const [search, setSearch] = useSearchParams();
  const logs = useLogs();
  const shown = name ?? logs.data?.[0]?.name;
  const hours = Number(search.get("hours") ?? 24),
    severity = (search.get("severity") ?? "") as Severity,
    words = search.get("words") ?? "",
    where = search.get("where") ?? "";
  const span = Number(search.get("span") ?? 1),
    against = (search.get("against") ?? "day") as Against;
  const put = (key: string, v: string) =>
    setSearch(
      (s) => {
        if (v) s.set(key, v);
        else s.delete(key);
        return s;
      },
      { replace: true },
    );
  const said = useSentences(shown, hours, severity, words, where);
  const differ = useLogComparison(shown, span, against);
  const log = said.data?.log,
    zone = log?.zone ?? "UTC";
  const rows = said.data?.templates ?? [];
  const dayAgo = useNow() - 86_400_000,
    known = log?.first_at ? Date.parse(log.first_at) + 86_400_000 : Infinity;
  const fresh = rows.filter(
    (t) =>
      !t.usual &&
      (t.severity === "ERROR" || t.severity === "FATAL") &&
      Date.parse(t.first_at) > Math.max(dayAgo, known),
  );
  const sentence = !logs.data
    ? ""
    : logs.data.length === 0
      ? "No log is read yet."
      : fresh.length > 0
        ? `${shown} says what it never said: “${spoken(fresh[0].gist)}”, ` +
          `${count(fresh[0].count, "line")} since ${time(fresh[0].first_at, zone)}.`
        : (said.data?.sentence ?? "");
  return (
    <Page
      place={
        <>
          Logs
          {log && (
            <>
              : {log.name},{" "}
              {log.job ? (
                <>
                  written by <i>{log.job}</i> for
                </>
              ) : log.service ? (
                <>written by the service {log.service},</>
              ) : (
                "written by the loaders of"
              )}{" "}
              <Link to={`/datasets/${log.dataset}`}>
                <code>{log.dataset}</code>
              </Link>
            </>
          )}
        </>
      }
      sentence={sentence}
      after={
        "Like lines are one sentence; its variable parts stand in italics. Lines are " +
        "counted, not kept, but a few of each sentence with secrets masked."
      }
    >
      <Trouble what="The logs" error={logs.error} />
      {logs.data?.length === 0 && (
        <p className="mt-3">
          Have a loader's lines counted: <code>tinbell log push loader.log --log NAME --dataset DATASET</code>
        </p>
      )}
      {shown && logs.data && (
        <div className="mt-3 grid max-lg:grid-cols-1 grid-cols-[236px_minmax(0,1fr)] gap-9">
          <div className="grid content-start gap-4 text-[14px]">
            <Section title="Logs" right={count(logs.data.length, "log")}>
              {logs.data.map((l) => (
                <button
                  key={l.name}
                  aria-pressed={l.name === shown}
                  className={cx(
                    "mt-1 flex w-full items-baseline justify-between gap-2 text-left",
                    l.name === shown ? "font-bold" : "underline decoration-pewter-line underline-offset-3",
                  )}
                  onClick={() => go(`/logs/${l.name}`)}
                >
                  <span className="break-all">{l.name}</span>
                  <span className="text-[13px] font-normal text-ink2">{count(l.templates, "sentence")}</span>
                </button>
              ))}
            </Section>
            {log && <Told log={log} />}
            {log && (
              <Section title="What is kept">
                <p className="mt-1 text-[13px] text-ink2">
                  {number(log.lines)} lines counted{log.first_at && <> since {time(log.first_at, zone)}</>},
                  the last {log.last_at ? time(log.last_at, zone) : "never"}.{" "}
                  {count(log.keep_samples, "line")} of each sentence. By severity they are the series of{" "}
                  <Link to="/monitors">{log.metric}</Link>.
                  {log.overflow > 0 &&
                    ` ${number(log.overflow)} lines came after there were as many sentences as are ` +
                      "kept, and are counted together."}
                </p>
                {log.source && (
                  <p className="mt-1 text-[13px] text-ink2">
                    Its files land as <code>{log.pattern}</code> in {log.source}, and are followed as they
                    grow and are moved away.
                  </p>
                )}
                {log.by.length > 0 && (
                  <p className="mt-1 text-[13px] text-ink2">Counted apart by {log.by.join(", ")}.</p>
                )}
                {log.masked.length > 0 && (
                  <p className="mt-1 text-[13px] text-ink2">
                    Masked is also what follows or fits {log.masked.join(", ")}.
                  </p>
                )}
              </Section>
            )}
          </div>
          <div className="min-w-0">
            <Section
              title="What differs"
              note={differ.data?.sentence}
              right={
                differ.data &&
                `${time(differ.data.from, zone)} to ${time(differ.data.to, zone, "time")} ` +
                  `against ${time(differ.data.against_from, zone)}`
              }
            >
              <div className="mt-2 flex flex-wrap gap-x-5 gap-y-2 text-[13px]">
                <Choice
                  name="The last"
                  value={String(span)}
                  options={[
                    ["1", "hour"],
                    ["6", "6 h"],
                    ["24", "day"],
                  ]}
                  onChange={(v) => put("span", v === "1" ? "" : v)}
                />
                <Choice
                  name="Against"
                  value={against}
                  options={[
                    ["before", "right before"],
                    ["hour", "hour before"],
                    ["day", "day before"],
                    ["week", "week before"],
                    ["month", "month before"],
                  ]}
                  onChange={(v) => put("against", v === "day" ? "" : v)}
                />
              </div>
              <Refusal error={differ.error} className="mt-2" />
              {(differ.data?.differ?.length ?? 0) > 0 && (
                <Difference list={differ.data!.differ.slice(0, 12)} log={shown} />
              )}
            </Section>
            <Section
              title="Sentences"
              className="mt-5"
              note={
                said.data && `${number(said.data.lines)} lines, ${number(said.data.errors)} of them errors`
              }
              right={`the last ${hours === 24 ? "day" : hours === 168 ? "week" : `${hours} h`}`}
            >
              <div className="mt-2 flex flex-wrap items-center gap-x-5 gap-y-2 text-[13px]">
                <Choice
                  name="Stretch"
                  value={String(hours)}
                  options={[
                    ["1", "hour"],
                    ["24", "day"],
                    ["168", "week"],
                  ]}
                  onChange={(v) => put("hours", v === "24" ? "" : v)}
                />
                <Choice
                  name="Severity"
                  value={severity}
                  options={[
                    ["", "all"],
                    ["ERROR", "error"],
                    ["WARN", "warn"],
                    ["INFO", "info"],
                    ["DEBUG", "debug"],
                  ]}
                  onChange={(v) => put("severity", v)}
                />
                <input
                  aria-label="With the words"
                  placeholder="with the words"
                  className="w-44 border border-ink3 bg-field px-2 py-[2px]"
                  value={words}
                  onChange={(e) => put("words", e.target.value)}
                />
                {where && <Button onClick={() => put("where", "")}>{where.replace("=", " is ")} ×</Button>}
              </div>
              {said.error ? (
                <p role="alert" className="mt-2 text-verm">
                  {said.error.message}
                </p>
              ) : (
                said.isPending && <Reading what="the sentences" />
              )}
              {said.data && rows.length === 0 && <p className="mt-3 text-ink2">No line came that fits.</p>}
              {rows.length > 0 && (
                <div data-sentences>
                  <Table
                    name="said"
                    className="mt-2"
                    columns={columns(shown, zone)}
                    rows={rows}
                    id={(t) => t.number}
                  />
                </div>
              )}
              {words.trim().length > 2 && (
                <Elsewhere here={shown} hours={hours} severity={severity} words={words} />
              )}
            </Section>
          </div>
        </div>
      )}
    </Page>
  );
}

const severities = ["TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"];

const columns = (log: string, zone: string): Column<Said>[] => [
  { id: "lines", head: "lines", num: true, by: (t) => t.count, cell: (t) => number(t.count) },
  {
    id: "share",
    head: "share",
    num: true,
    className: "text-ink2",
    by: (t) => t.share,
    cell: (t) => percent(t.share),
  },
  {
    id: "severity",
    head: "severity",
    by: (t) => severities.indexOf(t.severity),
    cell: (t) => <span className={`text-[12px] ${grave(t.severity)}`}>{t.severity.toLowerCase()}</span>,
  },
  { id: "when", head: "when", cell: (t) => <Bars counts={t.bins} /> },
  {
    id: "sentence",
    head: "sentence",
    fixed: true,
    by: (t) => t.gist,
    cell: (t) => (
      <Link className="plain" to={`/logs/${log}/${t.number}`}>
        <Words text={t.gist} />
      </Link>
    ),
  },
  {
    id: "first",
    head: "first",
    num: true,
    className: "whitespace-nowrap text-[13px] text-ink2",
    by: (t) => t.first_at,
    cell: (t) => time(t.first_at, zone, "day"),
  },
];

/** Sentences of other logs that have the same words. */
function Elsewhere({
  here,
  hours,
  severity,
  words,
}: {
  here: string;
  hours: number;
  severity: Severity;
  words: string;
}) {
  const found = useFoundSentences(hours, severity, words);
  const list = (found.data?.sentences ?? []).filter((s) => s.log !== here).slice(0, 12);
  if (list.length === 0) return null;
  return (
    <div className="mt-3" data-elsewhere>
      <p className="text-[13px] text-ink2">In other logs</p>
      {list.map((s) => (
        <p key={`${s.log} ${s.number}`} className="border-b border-hair py-[3px]">
          <span className="mr-3 text-[13px] text-ink2">
            {s.log}, {number(s.count)}
          </span>
          <Link className="plain" to={`/logs/${s.log}/${s.number}`}>
            <Words text={s.gist} />
          </Link>
        </p>
      ))}
    </div>
  );
}

function Difference({ list, log }: { list: Differs[]; log: string }) {
  return (
    <table className="mt-2 w-full border-collapse" data-differs>
      <thead>
        <tr className="border-b border-rule">
          <th className="py-1">what</th>
          <th className="num">lines</th>
          <th className="num">before</th>
          <th className="num">expected</th>
          <th className="pl-4">severity</th>
          <th className="pl-4">sentence</th>
        </tr>
      </thead>
      <tbody>
        {list.map((d) => (
          <tr key={d.number} className="h-[26px]">
            <td className={`whitespace-nowrap ${d.way === "new" ? "font-[650]" : ""}`}>{ways[d.way]}</td>
            <td className="num">{number(d.now)}</td>
            <td className="num text-ink2">{number(d.before)}</td>
            <td className="num text-ink2">{number(d.expected)}</td>
            <td className={`pl-4 text-[12px] ${grave(d.severity)}`}>{d.severity.toLowerCase()}</td>
            <td className="pl-4">
              <Link className="plain" to={`/logs/${log}/${d.number}`}>
                <Words text={d.gist} />
              </Link>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
