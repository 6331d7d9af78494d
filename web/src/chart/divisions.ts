import { type Style, time } from "../parts/words";

const day = 86_400_000;
const clocks = new Map<string, Intl.DateTimeFormat>();

/** What the clocks of a zone show at an instant, as if it were UTC. */
function wall(at: number, zone: string): number {
  if (!clocks.has(zone))
    clocks.set(
      zone,
      new Intl.DateTimeFormat("en-GB", {
        timeZone: zone,
        year: "numeric",
        month: "numeric",
        day: "numeric",
        hour: "numeric",
        minute: "numeric",
        hourCycle: "h23",
      }),
    );
  const shown = Object.fromEntries(
    clocks
      .get(zone)!
      .formatToParts(at)
      .map((p) => [p.type, Number(p.value)]),
  );
  return Date.UTC(shown.year, shown.month - 1, shown.day, shown.hour, shown.minute);
}

/** The instant at which a date begins in a zone; months and days beyond theirs go on into the next. */
function midnight(year: number, month: number, date: number, zone: string): number {
  const shown = Date.UTC(year, month, date);
  const near = shown - (wall(shown, zone) - shown);
  return near - (wall(near, zone) - shown);
}

/** Where a stretch is divided, and how a division is named. */
export type Divisions = { at: number[]; name: (at: number) => string };

/**
 * Divides a stretch by the clocks of a zone: at midnights, one of more than three months at
 * the firsts of months, one of more than six years at those of years.
 */
export function divisions(from: number, to: number, zone: string): Divisions {
  const first = new Date(wall(from, zone));
  const [y, m, d] = [first.getUTCFullYear(), first.getUTCMonth(), first.getUTCDate()];
  const [style, nth]: [Style, (n: number) => number] =
    to - from <= 92 * day
      ? ["day", (n) => midnight(y, m, d + n, zone)]
      : to - from <= 6 * 366 * day
        ? ["month", (n) => midnight(y, m + n, 1, zone)]
        : ["year", (n) => midnight(y + n, 0, 1, zone)];
  const at: number[] = [];
  for (let n = 0, t = nth(0); t < to; t = nth(++n)) if (t >= from) at.push(t);
  return { at, name: (t) => time(t, zone, style) };
}

/** A division's name without the weekday. */
export const plainly = (name: string) => name.replace(/^\w+ (\d+ )/, "$1");

/** Every nth of a list, so that about so many are left. */
export const some = <T>(list: T[], most: number): T[] =>
  list.filter((_, i) => i % Math.max(1, Math.ceil(list.length / most)) === 0);
