import type { Chart } from "../../api/client";

/** What a series is laid beside: its own past, the other segments of its metric, or nothing. */
export type Beside = "" | "week" | "year" | "siblings";

/** How far back each lies: 52 weeks, so that weekdays meet. */
export const back: Record<Beside, number> = {
  "": 0,
  week: 7 * 86_400_000,
  year: 364 * 86_400_000,
  siblings: 0,
};

export const besides = [
  ["", "nothing"],
  ["week", "a week before"],
  ["year", "a year before"],
  ["siblings", "its siblings"],
] as const;

/** The values of another chart at the periods of one, that far back; none where it has none. */
export function laid(chart: Chart, other: Chart, by: number): (number | null)[] {
  const values = new Map(other.at.map((t, i) => [Date.parse(t), other.observed[i]]));
  return chart.at.map((t) => {
    const at = Date.parse(t) - by;
    const same = values.get(at);
    if (same !== undefined) return same;
    // Clocks that were put forward or back between: the same hour of the day is one off.
    return values.get(at + 3_600_000) ?? values.get(at - 3_600_000) ?? null;
  });
}

const mean = (list: (number | null)[]) => {
  const known = list.filter((v): v is number => v !== null);
  return known.length ? known.reduce((a, b) => a + b, 0) / known.length : 0;
};

/** The middle of several series at each period of one, each brought to the mean of that one. */
export function middle(chart: Chart, others: Chart[]): (number | null)[] {
  const lists = others.map((o) => scaled(laid(chart, o, 0), chart));
  return chart.at.map((_, i) => {
    const known = lists
      .map((l) => l[i])
      .filter((v): v is number => v !== null)
      .sort((a, b) => a - b);
    if (known.length === 0) return null;
    const half = known.length >> 1;
    return known.length % 2 ? known[half] : (known[half - 1] + known[half]) / 2;
  });
}

/** Values of another series brought to the mean of one, so that shapes can be compared. */
export function scaled(values: (number | null)[], chart: Chart): (number | null)[] {
  const [own, other] = [mean(chart.observed), mean(values)];
  return other === 0 ? values : values.map((v) => (v === null ? null : (v * own) / other));
}
