import { duration } from "./words";

const day = 86_400;
export const [week, month, year] = [7 * day, 30 * day, 365 * day];

/** The period of a metric; those longer than a day are the calendar's, whatever days they have. */
export const period = (seconds: number) =>
  ({ [week]: "week", [month]: "month", [year]: "year" })[seconds] ?? duration(seconds);

/** What several periods are called. */
export const periods = (seconds: number) =>
  ({ 3600: "hours", [day]: "days", [week]: "weeks", [month]: "months", [year]: "years" })[seconds] ??
  `periods of ${duration(seconds)}`;

/**
 * How many times as wide as of a series within a day a view is: of days so many times, of
 * longer periods as many of them.
 */
export const wider = (seconds: number, daily: number) => (seconds < day ? 1 : (daily * seconds) / day);

/** The period of dates that follow each other, of a day and longer: the nearest to their distance. */
export function between(at: readonly string[]): number {
  if (at.length < 2) return day;
  const each = (Date.parse(at[at.length - 1]) - Date.parse(at[0])) / 1000 / (at.length - 1);
  const off = (p: number) => Math.abs(Math.log(each / p));
  return [day, week, month, year].reduce((best, p) => (off(p) < off(best) ? p : best));
}
