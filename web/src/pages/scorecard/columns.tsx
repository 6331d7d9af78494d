import { Link } from "react-router";
import type { Card } from "../../api/client";
import type { Grouping } from "../../api/learning";
import { Interval } from "../../chart/Interval";
import type { Column } from "../../parts/Table";
import { achieved, atWorst, duration, number, possible } from "../../parts/words";

/** False alarms a week: labelled noise, and up to what they would be if all that is unlabelled were noise. */
export function range(c: Card): string {
  const least = c.false_alarms_per_week.estimate ?? 0,
    most = c.false_alarms_per_week_if_all_noise ?? least;
  return most - least < 0.05 ? number(least, 1) : `${number(least, 1)} to ${number(most, 1)}`;
}

/** Whether the budget that is stated is exceeded beyond chance. */
const over = (c: Card) =>
  c.stated_seconds > 0 &&
  c.achieved.longest_seconds !== null &&
  c.achieved.longest_seconds < c.stated_seconds;

/** What is said of each monitor, or of what else scores are put together by. */
export function columns(by: Grouping | "monitor"): Column<Card>[] {
  const behind = (c: Card) =>
    by === "monitor"
      ? `monitor=${c.monitor}`
      : by === "month"
        ? `from=${c.name}-01`
        : `${by}=${encodeURIComponent(c.name)}`;
  return [
    {
      id: "of",
      head: by,
      fixed: true,
      by: (c) => (by === "monitor" ? `${c.dataset} ${c.monitor}` : c.name),
      cell: (c) =>
        by === "monitor" ? (
          <>
            <Link to={`/datasets/${c.dataset}`}>
              <code>{c.dataset}</code>
            </Link>
            , <Link to={`/monitors/${c.monitor}`}>{c.monitor}</Link>
          </>
        ) : c.name.startsWith("(") ? (
          <span className="text-ink2">{c.name}</span>
        ) : (
          <Link to={by === "tag" ? `/tags/${encodeURIComponent(c.name)}` : `/alerts?${behind(c)}`}>
            {c.name.replaceAll("_", " ") || "the whole dataset"}
          </Link>
        ),
    },
    {
      id: "precision",
      head: "precision",
      shows: (
        <span className="flex w-[116px] justify-between">
          <i>0</i>precision<i>1</i>
        </span>
      ),
      by: (c) => c.precision.estimate,
      cell: (c) => <Interval figure={c.precision} />,
    },
    {
      id: "faults",
      head: "faults of labelled",
      is: "precision",
      num: true,
      by: (c) => c.faults,
      cell: (c) => (
        <>
          <b className="font-[650]">
            {c.precision.estimate === null ? "–" : c.precision.estimate.toFixed(2)}
          </b>{" "}
          <Link to={`/alerts?${behind(c)}`}>
            {c.faults} of {c.faults + c.noise}
          </Link>
        </>
      ),
    },
    {
      id: "found",
      head: "incidents found",
      is: "recall",
      num: true,
      by: (c) => c.recall.estimate,
      cell: (c) => (c.recall.n ? `${c.recall.k} of ${c.recall.n}` : "–"),
    },
    {
      id: "delay",
      head: "delay",
      is: "delay",
      num: true,
      by: (c) => c.delay_seconds.estimate,
      cell: (c) => (c.delay_seconds.estimate === null ? "–" : duration(c.delay_seconds.estimate)),
    },
    {
      id: "false",
      head: "false alarms a week",
      num: true,
      by: (c) => c.false_alarms_per_week.estimate,
      cell: (c) => (
        <span
          title={
            "labelled noise; to the right, if every unlabelled alert that matches no incident were noise too"
          }
        >
          {range(c)}
        </span>
      ),
    },
    {
      id: "stated",
      head: "budget stated",
      is: "stated",
      num: true,
      by: (c) => c.stated_seconds || null,
      cell: (c) => (c.stated_seconds ? `1 in ${duration(c.stated_seconds)}` : "–"),
    },
    {
      id: "achieved",
      head: "achieved",
      is: "achieved",
      num: true,
      by: (c) => c.achieved.seconds,
      cell: (c) => (
        <span
          className={over(c) ? "font-bold text-verm" : ""}
          title={
            `95 %: ${possible(c.achieved)}` +
            (atWorst(c.achieved) && `; ${atWorst(c.achieved)} if all that is unlabelled were noise`)
          }
        >
          {achieved(c.achieved)}{" "}
          <span className="font-normal text-ink3">
            {c.achieved.seconds !== null && possible(c.achieved).replace("1 in ", "")}
          </span>
        </span>
      ),
    },
    {
      id: "unlabelled",
      head: "unlabelled",
      num: true,
      by: (c) => c.unlabelled,
      cell: (c) =>
        c.unlabelled ? (
          <Link to={`/alerts?show=none&${behind(c)}`}>{c.unlabelled}</Link>
        ) : (
          <span className="text-ink3">0</span>
        ),
    },
  ];
}
