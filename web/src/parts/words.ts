const small = [
  "No",
  "One",
  "Two",
  "Three",
  "Four",
  "Five",
  "Six",
  "Seven",
  "Eight",
  "Nine",
  "Ten",
  "Eleven",
  "Twelve",
];

/** A count as a word, up to twelve; for the start of a sentence. */
export const word = (n: number) => small[n] ?? n.toLocaleString("en");

export const count = (n: number, one: string, many = one + "s") =>
  `${n.toLocaleString("en")} ${n === 1 ? one : many}`;

const minus = (text: string) => text.replace("-", "−");

export function number(x: number | null | undefined, digits?: number): string {
  if (x === null || x === undefined) return "–";
  const auto = Math.abs(x) >= 10 || Number.isInteger(x) ? 0 : Math.abs(x) >= 1 ? 1 : 2;
  return minus(
    x.toLocaleString("en", { minimumFractionDigits: digits ?? auto, maximumFractionDigits: digits ?? auto }),
  );
}

/** A size with the unit that leaves two or three digits. */
export function bytes(n: number | null | undefined): string {
  if (n === null || n === undefined) return "–";
  const units = ["B", "kB", "MB", "GB", "TB"];
  const k = Math.min(Math.max(Math.floor(Math.log10(Math.max(n, 1)) / 3), 0), 4);
  return `${number(n / 1000 ** k)} ${units[k]}`;
}

export function signed(x: number, digits = 1): string {
  const text = number(x, digits);
  return /[1-9]/.test(text) ? (x > 0 ? "+" : "") + text : text.replace("−", "");
}

export function duration(seconds: number): string {
  const s = Math.max(seconds, 0);
  if (s < 120) return s === 0 ? "0" : `${Math.round(s)} s`;
  if (s < 3600 || (s < 7200 && s % 3600 >= 30)) return `${Math.round(s / 60)} min`;
  if (s < 172800) {
    const minutes = Math.round(s / 60);
    return minutes % 60 ? `${Math.floor(minutes / 60)} h ${minutes % 60} min` : `${minutes / 60} h`;
  }
  if (s < 365 * 86400) return `${Math.round(s / 86400)} d`;
  return `${Number((s / 86400 / 365).toFixed(1))} y`;
}

/** How long something is past; the newest minute is now. */
export const ago = (seconds: number) => (seconds < 60 ? "just now" : `${duration(seconds)} ago`);

/** A return period in words. */
export function rarity(seconds: number | null | undefined): string {
  if (!seconds) return "–";
  const days = seconds / 86400;
  if (days < 2) return `about once in ${duration(seconds)}`;
  if (seconds >= 99.9 * 365.25 * 86400) return "less than once in 100 years";
  if (days < 730) return `about once in ${Math.round(days)} days`;
  return `about once in ${Math.round(days / 365)} years`;
}

const steps = [
  1,
  5,
  15,
  30,
  60,
  300,
  900,
  1800,
  3600,
  2 * 3600,
  3 * 3600,
  6 * 3600,
  12 * 3600,
  86400,
  2 * 86400,
  7 * 86400,
  30 * 86400,
];

/** Round figures for an axis of a kind, about n of them. */
export function ticks(
  scale: { ticks: (n: number) => number[]; domain: () => number[] },
  kind: string,
  n: number,
): number[] {
  if (kind !== "duration") return scale.ticks(n);
  const [from, to] = scale.domain();
  const step = steps.find((s) => (to - from) / s <= n) ?? to - from;
  return Array.from({ length: Math.floor((to - from) / step) + 1 }, (_, i) => from + i * step);
}

/** A value of a series with its unit's way of writing. */
export function value(x: number | null | undefined, kind: string): string {
  if (x === null || x === undefined) return "–";
  if (kind === "share") return `${number(x * 100, 1)} %`;
  if (kind === "duration") return duration(x);
  return number(x);
}

/** How often a monitor has cried wolf, with its 95 % interval. */
export function achieved(a: {
  seconds: number | null;
  shortest_seconds: number | null;
  longest_seconds: number | null;
}): string {
  if (a.shortest_seconds === null) return "–";
  if (a.seconds === null) return `none in ${duration(a.shortest_seconds * 3.69)}`;
  return `1 in ${duration(a.seconds)}`;
}

/** The interval of achieved, in words. */
export const possible = (a: {
  seconds: number | null;
  shortest_seconds: number | null;
  longest_seconds: number | null;
}) =>
  a.shortest_seconds === null
    ? ""
    : a.longest_seconds === null
      ? `1 in over ${duration(a.shortest_seconds)}`
      : `1 in ${duration(a.shortest_seconds)} to ${duration(a.longest_seconds)}`;

type AtWorst = { groups: number; groups_if_all_noise: number; seconds_if_all_noise: number | null };

/**
 * How often it would have cried wolf if what nobody labelled were noise; nothing where that changes
 * nothing.
 */
export const atWorst = (a: AtWorst) =>
  a.groups_if_all_noise > a.groups && a.seconds_if_all_noise !== null
    ? `1 in ${duration(a.seconds_if_all_noise)}`
    : "";

/** A probability that was reckoned: none is surer than its reckoning. */
export const odds = (p: number) => (p < 0.001 ? "under 0.1 %" : p > 0.999 ? "over 99.9 %" : percent(p));

export function percent(x: number | null | undefined): string {
  return x === null || x === undefined ? "–" : `${Math.round(x * 100)} %`.replace("-", "−");
}

export type Style = "time" | "day" | "full" | "short" | "month" | "year";
const styles: Record<Style, Intl.DateTimeFormatOptions> = {
  time: { hour: "2-digit", minute: "2-digit", hour12: false },
  day: { weekday: "short", day: "numeric", month: "short" },
  month: { month: "short", year: "numeric" },
  year: { year: "numeric" },
  short: { weekday: "short", hour: "2-digit", minute: "2-digit", hour12: false },
  full: {
    weekday: "short",
    day: "numeric",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
    hour12: false,
  },
};
const formats = new Map<string, Intl.DateTimeFormat>();

let everywhere: string | undefined;

/** Has all times written in one zone, whatever zone they are of; without one, each in its own. */
export function showIn(zone: string | undefined) {
  everywhere = zone;
}

/** A time in a zone: "Wed 17 Jun, 05:00". */
export function time(at: string | Date | number, of: string, style: Style = "full"): string {
  const zone = everywhere ?? of;
  const key = zone + style;
  if (!formats.has(key))
    formats.set(key, new Intl.DateTimeFormat("en-GB", { timeZone: zone, ...styles[style] }));
  const text = formats.get(key)!.format(new Date(at));
  return style === "day"
    ? text.replace(",", "")
    : style === "full"
      ? text.replace(",", "").replace(" at ", ", ")
      : text.replace(",", "");
}

/** The city of the zone that times are written in, as its name has it. */
export const city = (of: string) => (everywhere ?? of).split("/").pop()!.replaceAll("_", " ");

/** The zone of whoever looks. */
export const own = Intl.DateTimeFormat().resolvedOptions().timeZone;
