import { useState } from "react";
import { Link } from "react-router";
import type { PartOf, Sentence } from "../../api/client";
import { useFileLines, useGoesWith } from "../../api/logs";
import { Section } from "../../parts/Page";
import { count, duration, number, percent, time } from "../../parts/words";
import { grave, Words } from "./Parts";
import { Button } from "../../parts/Form";

/** What a sentence goes with: sentences that rise and fall with it, runs, alerts. */
export function GoesWith({ name, number: of }: { name: string; number: number }) {
  const found = useGoesWith(name, of);
  const g = found.data;
  const kin = g?.kin ?? [],
    runs = (g?.runs ?? []).filter((r) => r.with > 0),
    alerts = g?.alerts ?? [];
  return (
    <Section
      title="What it goes with"
      className="mt-5"
      note={g?.sentence ?? (found.error ? found.error.message : "being looked for")}
      right="the last week"
    >
      {kin.length > 0 && (
        <table className="mt-2 w-full border-collapse" data-kin>
          <thead>
            <tr className="border-b border-rule">
              <th className="num py-1">correlation</th>
              <th className="pl-4">it comes</th>
              <th className="pl-4">severity</th>
              <th className="pl-4">sentence</th>
            </tr>
          </thead>
          <tbody>
            {kin.map((k) => (
              <tr key={k.number} className="h-[26px]">
                <td className="num">{k.correlation.toFixed(2).replace("-", "−")}</td>
                <td className="pl-4 whitespace-nowrap text-ink2">
                  {k.lag_seconds === 0
                    ? "at once"
                    : `${duration(Math.abs(k.lag_seconds))} ${k.lag_seconds > 0 ? "later" : "earlier"}`}
                </td>
                <td className={`pl-4 text-[12px] ${grave(k.severity)}`}>{k.severity.toLowerCase()}</td>
                <td className="pl-4">
                  <Link className="plain" to={`/logs/${name}/${k.number}`}>
                    <Words text={k.gist} />
                  </Link>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {runs.length > 0 && (
        <p className="mt-2 text-[14px]">
          {runs.map((r) => `In ${r.with} of ${count(r.runs, `${r.state} run`)} of ${r.job}`).join(". ")}.
        </p>
      )}
      {alerts.map((a) => (
        <p key={a.dataset} className="mt-1 text-[14px]">
          In {a.with} of {count(a.hours, "hour")} in which{" "}
          <Link to={`/datasets/${a.dataset}`}>
            <code>{a.dataset}</code>
          </Link>{" "}
          had an alert, and in {percent(a.else)} of the others.
        </p>
      ))}
    </Section>
  );
}

/** What stood in a sentence's variable parts. */
export function Values({ list, zone }: { list: PartOf[]; zone: string }) {
  return (
    <Section
      title="What varies in it"
      className="mt-5"
      right="the last 30 days; times in seconds, sizes in bytes"
    >
      <table className="mt-2 w-full border-collapse text-[14px]" data-values>
        <thead>
          <tr className="border-b border-rule">
            <th className="py-1">part</th>
            <th className="pl-3">after</th>
            <th className="num pl-3">values</th>
            <th className="pl-4">most often, or the median</th>
            <th className="num pl-3">from</th>
            <th className="num pl-3">to</th>
            <th className="pl-4">by day</th>
          </tr>
        </thead>
        <tbody>
          {list.map((p) => (
            <Value key={p.part} part={p} zone={zone} />
          ))}
        </tbody>
      </table>
    </Section>
  );
}

function Value({ part, zone }: { part: PartOf; zone: string }) {
  const days = part.days,
    top = part.top,
    last = days[days.length - 1];
  const numeric = part.numbers > part.lines / 2 && last;
  const often = top[0] && top[0].lines > part.lines / 50;
  return (
    <tr className="h-[28px]">
      <td className="whitespace-nowrap">{part.kind}</td>
      <td className="pl-3 text-ink2">{part.before || "–"}</td>
      <td className="num pl-3">{number(part.distinct)}</td>
      <td className="pl-4 break-all">
        {numeric
          ? number(last.median)
          : often
            ? `${top[0].value} (${percent(top[0].lines / part.lines)})`
            : "no two alike"}
      </td>
      <td className="num pl-3 text-ink2">{numeric ? number(Math.min(...days.map((d) => d.least))) : ""}</td>
      <td className="num pl-3 text-ink2">{numeric ? number(Math.max(...days.map((d) => d.most))) : ""}</td>
      <td className="pl-4">{numeric && days.length > 1 && <Middles days={days} zone={zone} />}</td>
    </tr>
  );
}

/** The middle of a part's numbers by day, between their tenth and ninetieth hundredth. */
function Middles({ days, zone }: { days: NonNullable<PartOf["days"]>; zone: string }) {
  const low = Math.min(...days.map((d) => d.low)),
    high = Math.max(...days.map((d) => d.high));
  const y = (v: number) => 21 - (high > low ? (19 * (v - low)) / (high - low) : 9);
  const x = (i: number) => 2 + (116 * i) / Math.max(days.length - 1, 1);
  return (
    <svg
      width={120}
      height={23}
      className="block"
      role="img"
      aria-label={
        `its median by day, ${time(days[0].day, zone, "day")} to ` +
        `${time(days[days.length - 1].day, zone, "day")}`
      }
    >
      {days.map((d, i) => (
        <line key={d.day} x1={x(i)} x2={x(i)} y1={y(d.low)} y2={y(d.high)} className="stroke-ink3" />
      ))}
      <polyline
        fill="none"
        className="stroke-ink"
        strokeWidth={1.4}
        points={days.map((d, i) => `${x(i)},${y(d.median)}`).join(" ")}
      />
    </svg>
  );
}

/** Lines of a sentence by attributes that are counted apart. */
export function By({ list, log }: { list: NonNullable<Sentence["by"]>; log: string }) {
  return (
    <Section title="Counted apart" className="mt-5" right="the last two weeks">
      <p className="mt-1 text-[14px]">
        {list.slice(0, 20).map((v, i) => (
          <span key={`${v.attribute} ${v.value}`}>
            {i > 0 && ", "}
            <Link to={`/logs/${log}?where=${encodeURIComponent(`${v.attribute}=${v.value}`)}`}>
              {v.attribute} {v.value}
            </Link>{" "}
            {number(v.lines)}
          </span>
        ))}
      </p>
    </Section>
  );
}

/** The lines of a sentence as its files still hold them. */
export function FileLines({ name, number: of }: { name: string; number: number }) {
  const [asked, ask] = useState(false);
  const found = useFileLines(name, of, asked);
  if (!asked)
    return (
      <Button className="mt-3" onClick={() => ask(true)}>
        Read them from its files
      </Button>
    );
  return (
    <div className="mt-3" data-file-lines>
      <p className="text-[13px] text-ink2">
        {found.error ? (
          <span role="alert" className="text-verm">
            {found.error.message}
          </span>
        ) : found.data ? (
          `${found.data.sentence} Of the last day, newest first; gone when you leave this page.`
        ) : (
          "The files are being read."
        )}
      </p>
      {(found.data?.lines ?? []).map((v) => (
        <p key={`${v.path} ${v.line}`} className="mt-1 font-mono text-[13px] break-words">
          <span className="text-ink3">
            {v.path.split("/").pop()}:{v.line}
          </span>{" "}
          {v.text}
        </p>
      ))}
    </div>
  );
}
