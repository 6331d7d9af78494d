import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { Rehearsal, Replay, Settings } from "../../api/client";
import { useTry } from "../../api/learning";
import { useMonitor, useMonitorStates, useRehearsal, useSaveMonitor } from "../../api/queries";
import { RehearsalChart } from "../../chart/RehearsalChart";
import { Pick } from "../../parts/Controls";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { Tags } from "../../parts/Tags";
import { city, count } from "../../parts/words";
import { Budget, Changes, Compared, LossChart } from "./Compared";
import { SettingsForm } from "./SettingsForm";
import { Kept } from "./Kept";
import { NotJudged } from "./NotJudged";
import { Segments } from "./Segments";
import { Silence } from "./Silence";
import { Waiting } from "./Waiting";
import { Versions } from "./Versions";
import { Button, Refusal } from "../../parts/Form";
import { periods } from "../../parts/period";

const spans = { "2 weeks": 14, "6 weeks": 42, "11 weeks": 77 } as const;

const same = (a: Settings, b: Settings) => JSON.stringify(tidy(a)) === JSON.stringify(tidy(b));
/** Settings without what is not set, in a fixed order. */
const tidy = (s: Settings) =>
  Object.fromEntries(
    Object.entries(s)
      .filter(([, v]) => v !== undefined && v !== "" && v !== false)
      .sort(([a], [b]) => a.localeCompare(b)),
  );

function tally(r: Replay): string {
  const of = (what: string) => r.alerts.filter((a) => a.outcome === what).length;
  const missed = r.card.recall.n - r.card.recall.k;
  return (
    `${count(r.alerts?.length ?? 0, "alert")}: ${count(of("hit"), "hit")}, ` +
    `${count(of("false"), "false alarm")}, ${of("planned")} planned; ` +
    `${count(missed, "incident")} missed`
  );
}

export function MonitorPage() {
  const name = useParams().name!;
  const monitor = useMonitor(name);
  const [search, setSearch] = useSearchParams();
  const [draft, setDraft] = useState<Settings | null>(null);
  const [counts, setCounts] = useState(false);
  const [stretch, setStretch] = useState<[number, number] | null>(null);
  const states = useMonitorStates(name).data ?? [];
  const save = useSaveMonitor(name);
  const share = useTry();
  const go = useNavigate();
  const span = (search.get("span") ?? "6 weeks") as keyof typeof spans;
  const series = Number(search.get("series")) || undefined;
  const m = monitor.data;
  const settings = draft ?? m?.settings;
  const rehearsal = useRehearsal(name, settings, series, spans[span] ?? 42);
  const r = rehearsal.data;
  const changed = m && draft && !same(draft, m.settings) ? draft : null;
  const keep = () =>
    m &&
    changed &&
    save.mutate({ version: m.version, settings: changed }, { onSuccess: () => setDraft(null) });
  const discard = () => setDraft(null);
  const place = (
    <>
      Monitor: <Link to="/monitors">{name}</Link>
      {m && (
        <>
          ,{" "}
          <Link to={`/datasets/${m.dataset}`}>
            <code>{m.dataset}</code>
          </Link>
          , version {m.version}
        </>
      )}
    </>
  );
  if (monitor.error)
    return (
      <Page place={place} sentence={`There is no monitor ${name}.`}>
        <Trouble what="The monitor" error={monitor.error} />
      </Page>
    );
  if (!m || !settings)
    return (
      <Page place={place} sentence="">
        <Reading what="the monitor" />
      </Page>
    );
  const keys = { S: { does: "save", act: keep }, D: { does: "discard", act: discard } };
  return (
    <Page
      place={place}
      keys={keys}
      sentence={
        !r
          ? ""
          : changed
            ? r.sentence
            : states.length > 0 && states.length === r.series?.length
              ? `${name} judges nothing yet: ${states[0].message}.`
              : standing(r)
      }
    >
      <Waiting monitor={name} onTry={setDraft} />
      <div className="mt-3 grid max-lg:grid-cols-1 grid-cols-[296px_minmax(0,1fr)] gap-[52px]">
        <div>
          <NotJudged states={states} />
          <Section
            title="Settings"
            right={changed ? count(differing(changed, m.settings), "changed", "changed") : "as in force"}
          >
            <SettingsForm
              monitor={m}
              value={settings}
              onChange={setDraft}
              period={r?.period_seconds ?? 3600}
              unit={r?.unit ?? ""}
            />
          </Section>
          <Segments
            settings={settings}
            onChange={setDraft}
            today={m.settings}
            unit={r?.unit ?? ""}
            known={r?.series?.map((s) => s.segment) ?? []}
          />
          <Kept m={m} />
          <Section title="Tags" className="mt-4">
            <p className="mt-1">
              <Tags kind="monitors" name={m.name} tags={m.tags} inherited={m.inherited} />
            </p>
          </Section>
          <Silence m={m} />
          <Versions m={m} />
          <Refusal error={rehearsal.error} className="mt-3 border-t border-verm pt-2" />
          {save.error && (
            <p role="alert" className="mt-3 border-t border-verm pt-2 text-verm">
              Not saved: {save.error.message}
            </p>
          )}
          <div className="sticky bottom-0 mt-4 flex gap-2 bg-ground py-2">
            <Button disabled={!changed || save.isPending} onClick={keep} look="primary">
              Save as version {m.version + 1}
            </Button>
            <Button disabled={!changed} onClick={discard}>
              Discard
            </Button>
            <Button
              disabled={!changed || share.isPending}
              title="Keep this comparison under an address that can be shared"
              onClick={() =>
                changed &&
                share.mutate(
                  { monitors: [name], settings: changed, days: spans[span] ?? 42 },
                  { onSuccess: (t) => go(`/trials/${t.task_id}`) },
                )
              }
              look="text"
            >
              share
            </Button>
          </div>
        </div>
        {!r ? (
          <Reading what="what it would have told" />
        ) : (
          <div>
            <div className="mb-2 flex items-center justify-between gap-4 text-[13px]">
              <div className="flex gap-4">
                {Object.keys(spans).map((s) => (
                  <button
                    key={s}
                    aria-pressed={s === span}
                    className={
                      s === span ? "font-bold" : "underline decoration-pewter-line underline-offset-3"
                    }
                    onClick={() => {
                      setStretch(null);
                      setSearch({ span: s, ...(series && { series: String(series) }) });
                    }}
                  >
                    {r.period_seconds > 86_400
                      ? `${spans[s as keyof typeof spans]} ${periods(r.period_seconds)}`
                      : s}
                  </button>
                ))}
                <Button look="text" onClick={() => setCounts(!counts)}>
                  {counts ? "deviation" : r.unit || "values"}
                </Button>
                {stretch && (
                  <Button look="text" onClick={() => setStretch(null)}>
                    whole stretch
                  </Button>
                )}
                <Link to={`/series/${r.drawn.id}`}>study this series</Link>
              </div>
              {(r.series?.length ?? 0) > 1 && (
                <div className="w-52">
                  <Pick
                    name="Segment drawn"
                    value={String(r.drawn.id)}
                    options={r.series.map((s) => [String(s.id), s.segment] as const)}
                    onChange={(v) => setSearch({ span, series: v })}
                  />
                </div>
              )}
            </div>
            <Section
              title="Today"
              note={tally(r.today)}
              right={counts ? "" : "deviation in today's half-widths"}
            >
              <RehearsalChart r={r} side={r.today} counts={counts} stretch={stretch} onStretch={setStretch} />
            </Section>
            <Section
              title="Proposed"
              note={tally(r.proposed)}
              right={`times in ${city(r.zone)}, drag to zoom`}
              className="mt-1"
            >
              <RehearsalChart
                r={r}
                side={r.proposed}
                counts={counts}
                stretch={stretch}
                onStretch={setStretch}
              />
            </Section>
            <div className="mt-2 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_236px] gap-10">
              <div>
                <Section
                  title="Score on this past"
                  note={`${count(r.proposed.card.recall.n, "incident")}; 95 % intervals`}
                >
                  <Compared r={r} />
                </Section>
                <Section title="What changes" className="mt-3">
                  <Changes r={r} />
                </Section>
              </div>
              <div>
                <Section title="Budget" right="false alarms">
                  <Budget r={r} />
                </Section>
                <Section title="Detectable loss" right="within" className="mt-3">
                  <LossChart
                    today={r.today.detectable.losses}
                    proposed={r.proposed.detectable.losses}
                    sentence={[r.proposed.detectable.sentence, r.proposed.detectable.proposal].join(" ")}
                  />
                </Section>
              </div>
            </div>
          </div>
        )}
      </div>
    </Page>
  );
}

const differing = (a: Settings, b: Settings) => {
  const x = tidy(a),
    y = tidy(b);
  return new Set(
    [...Object.keys(x), ...Object.keys(y)].filter((k) => JSON.stringify(x[k]) !== JSON.stringify(y[k])),
  ).size;
};

/** What a monitor nobody is changing has done. */
function standing(r: Rehearsal): string {
  const c = r.today.card;
  const wolf =
    c.achieved.groups === 0 ? "without a false alarm" : `with ${count(c.achieved.groups, "false alarm")}`;
  return c.recall.n === 0
    ? `Over this stretch ${r.monitor.name} told ${count(c.alerts, "time")}, ${wolf}; ` +
        "no incident is on record."
    : `Over this stretch ${r.monitor.name} found ${c.recall.k} of ${count(c.recall.n, "incident")}, ${wolf}.`;
}
