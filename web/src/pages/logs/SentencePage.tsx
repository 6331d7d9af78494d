import { Link, useParams } from "react-router";
import { useSay, useSentence } from "../../api/logs";
import { Page, Reading, Section, Trouble } from "../../parts/Page";
import { count, number, time } from "../../parts/words";
import { Correct } from "./Correct";
import { By, FileLines, GoesWith, Values } from "./Depth";
import { Bars, grave, spoken, Words } from "./Parts";
import { Button, Refusal } from "../../parts/Form";

/** One sentence of a log: when it came, with a few lines. */
export function SentencePage() {
  const { name, number: text } = useParams();
  const of = Number(text);
  const sentence = useSentence(name!, of);
  const say = useSay(name!, of);
  const s = sentence.data;
  const place = (
    <>
      Logs: <Link to={`/logs/${name}`}>{name}</Link>, sentence {text}
      {s && (
        <>
          , of{" "}
          <Link to={`/datasets/${s.dataset}`}>
            <code>{s.dataset}</code>
          </Link>
        </>
      )}
    </>
  );
  if (!s)
    return (
      <Page place={place} sentence="">
        {sentence.error ? (
          <Trouble what="The sentence" error={sentence.error} />
        ) : (
          <Reading what="the sentence" />
        )}
      </Page>
    );
  const hours = s.hours;
  const first = hours.length > 0 ? Date.parse(hours[0].at) : 0,
    last = hours.length > 0 ? Date.parse(hours[hours.length - 1].at) : 0;
  const bins = Array.from({ length: hours.length > 0 ? (last - first) / 3_600_000 + 1 : 0 }, () => 0);
  hours.forEach((h) => {
    bins[Math.round((Date.parse(h.at) - first) / 3_600_000)] += h.lines;
  });
  return (
    <Page
      place={place}
      sentence={`“${spoken(s.gist)}” came ${count(s.lines, "time")} since ${time(s.first_at, s.zone)}.`}
      after={
        <>
          The last {time(s.last_at, s.zone)}.{" "}
          {s.merged_into > 0 && (
            <>
              It became part of <Link to={`/logs/${name}/${s.merged_into}`}>sentence {s.merged_into}</Link>
              .{" "}
            </>
          )}
          {s.became_part.length > 0 && `Sentences ${s.became_part.join(", ")} became part of it.`}
        </>
      }
    >
      <div className="mt-3 grid max-lg:grid-cols-1 grid-cols-[minmax(0,1fr)_280px] gap-9">
        <div className="min-w-0">
          <Section
            title="By the hour"
            right={
              hours.length > 0 &&
              `${time(hours[0].at, s.zone)} to ${time(hours[hours.length - 1].at, s.zone)}, ` +
                `at most ${number(Math.max(...bins))} an hour`
            }
          >
            {bins.length > 0 ? (
              <div className="mt-2 overflow-hidden" data-hours>
                <Bars counts={bins} width={900} height={120} />
              </div>
            ) : (
              <p className="mt-1 text-ink2">No line in the last two weeks.</p>
            )}
          </Section>
          <GoesWith name={name!} number={of} />
          {s.values.length > 0 && <Values list={s.values} zone={s.zone} />}
          {s.by.length > 0 && <By list={s.by} log={name!} />}
          <Section title="Lines" className="mt-5" right="secrets masked">
            {s.samples.length === 0 && <p className="mt-1 text-ink2">None is kept.</p>}
            {s.samples.map((v) => (
              <p key={v.at + v.line} className="mt-2 font-mono text-[13px] break-words">
                {v.line}
              </p>
            ))}
            {s.files && <FileLines name={name!} number={of} />}
          </Section>
        </div>
        <div className="grid content-start gap-4 text-[14px]">
          <Section
            title="The sentence"
            right={<span className={grave(s.severity)}>{s.severity.toLowerCase()}</span>}
          >
            <p className="mt-1">
              <Words text={s.text} />
            </p>
          </Section>
          <Section title="News">
            <p className="mt-1 text-ink2">
              {s.usual
                ? "Somebody says that it is no news."
                : "It is told as news while it is new here, if its severity is watched."}
            </p>
            <Button disabled={say.isPending} className="mt-2" onClick={() => say.mutate({ usual: !s.usual })}>
              {s.usual ? "It is news after all" : "It is no news"}
            </Button>
          </Section>
          <Section title="Followed">
            <p className="mt-1 text-ink2">
              {s.followed ? (
                <>
                  Its lines are the series <i>sentence {s.number}</i> of the metric{" "}
                  <code>log-{s.log}-sentences</code>: a monitor on it has a band, labels and a score like any
                  other.
                </>
              ) : (
                "Its lines can be a series of their own, which a monitor watches: a heartbeat " +
                "that must come, a warning that may come so often."
              )}
            </p>
            <Button
              disabled={say.isPending}
              className="mt-2"
              onClick={() => say.mutate({ followed: !s.followed })}
            >
              {s.followed ? "Follow it no longer" : "Follow it"}
            </Button>
            <Refusal error={say.error} className="mt-1" />
          </Section>
          <Correct sentence={s} />
        </div>
      </div>
    </Page>
  );
}
