import { area, line } from "d3-shape";
import type { Chart } from "../api/client";

type Num = number | null;

/** One drawn column of a series: pixel-thinned so that extremes survive. */
export type Points = {
  at: number[];
  observed: Num[];
  expected: Num[];
  low: Num[];
  high: Num[];
  deviation: Num[];
  floor?: Num[];
  ceiling?: Num[];
  filled?: boolean[];
};

export function pointsOf(c: Chart): Points {
  return {
    at: c.at.map((t) => Date.parse(t)),
    observed: c.observed,
    expected: c.expected,
    low: c.low,
    high: c.high,
    deviation: c.deviation,
    filled: c.filled ?? undefined,
    floor: c.floor,
    ceiling: c.ceiling,
  };
}

/** Keeps, per bucket of samples, the two with the lowest and highest observed value. */
export function thin(p: Points, most: number): Points {
  const n = p.at.length;
  if (n <= most) return p;
  const size = Math.ceil((2 * n) / most);
  const keep: number[] = [];
  for (let start = 0; start < n; start += size) {
    let lo = start,
      hi = start;
    for (let i = start; i < Math.min(start + size, n); i++) {
      if ((p.observed[i] ?? Infinity) < (p.observed[lo] ?? Infinity)) lo = i;
      if ((p.observed[i] ?? -Infinity) > (p.observed[hi] ?? -Infinity)) hi = i;
    }
    keep.push(...(lo === hi ? [lo] : [Math.min(lo, hi), Math.max(lo, hi)]));
  }
  const pick = <T>(list: T[]) => keep.map((i) => list[i]);
  return {
    at: pick(p.at),
    observed: pick(p.observed),
    expected: pick(p.expected),
    low: pick(p.low),
    high: pick(p.high),
    deviation: pick(p.deviation),
    floor: p.floor && pick(p.floor),
    ceiling: p.ceiling && pick(p.ceiling),
    filled: p.filled && pick(p.filled),
  };
}

/**
 * The top of the vertical axis: what was observed and expected decide it, and a band far above them is
 * cut.
 */
export function top(p: Points): number {
  const highest = (list: Num[]) => list.reduce<number>((most, v) => (v !== null && v > most ? v : most), 0);
  const values = Math.max(highest(p.observed), highest(p.expected)),
    bound = Math.max(highest(p.floor ?? []), highest(p.ceiling ?? []));
  const seen = bound <= 1.5 * values ? Math.max(values, bound) : values;
  return Math.max(seen, Math.min(highest(p.high), 2.5 * seen)) || highest(p.high) || 1;
}

/** The paths of a chart on given scales. */
export function paths(p: Points, x: (at: number) => number, y: (v: number) => number) {
  const index = p.at.map((_, i) => i);
  const has = (list: Num[]) => (i: number) => list[i] !== null && list[i] !== undefined;
  const all = (i: number) => has(p.low)(i) && has(p.high)(i) && has(p.observed)(i);
  return {
    band:
      area<number>()
        .defined((i) => has(p.low)(i) && has(p.high)(i))
        .x((i) => x(p.at[i]))
        .y0((i) => y(p.low[i]!))
        .y1((i) => y(p.high[i]!))(index) ?? "",
    below:
      area<number>()
        .defined(all)
        .x((i) => x(p.at[i]))
        .y0((i) => y(p.low[i]!))
        .y1((i) => y(Math.min(p.observed[i]!, p.low[i]!)))(index) ?? "",
    above:
      area<number>()
        .defined(all)
        .x((i) => x(p.at[i]))
        .y0((i) => y(p.high[i]!))
        .y1((i) => y(Math.max(p.observed[i]!, p.high[i]!)))(index) ?? "",
    expected:
      line<number>()
        .defined(has(p.expected))
        .x((i) => x(p.at[i]))
        .y((i) => y(p.expected[i]!))(index) ?? "",
    bounds: [p.floor, p.ceiling]
      .map((b) =>
        b
          ? (line<number>()
              .defined(has(b))
              .x((i) => x(p.at[i]))
              .y((i) => y(b[i]!))(index) ?? "")
          : "",
      )
      .join(""),
    observed:
      line<number>()
        .defined((i) => has(p.observed)(i) && !p.filled?.[i])
        .x((i) => x(p.at[i]))
        .y((i) => y(p.observed[i]!))(index) ?? "",
  };
}

/** Where values were put that did not come. */
export const filledAt = (p: Points) =>
  p.at.flatMap((at, i) => (p.filled?.[i] && p.observed[i] !== null ? [[at, p.observed[i]] as const] : []));

/** Deviation as a chart of its own: the band is −1 to 1 and expected is zero. */
export function asDeviation(p: Points): Points {
  const fixed = (v: number) => p.expected.map((e) => (e === null ? null : v));
  const clipped = p.deviation.map((d) => (d === null ? null : Math.max(-6, Math.min(6, d))));
  return {
    ...p,
    observed: clipped,
    expected: fixed(0),
    low: fixed(-1),
    high: fixed(1),
    floor: undefined,
    ceiling: undefined,
  };
}

/** A line through values at instants, broken where one is missing. */
export function joined(
  at: number[],
  values: Num[],
  x: (at: number) => number,
  y: (value: number) => number,
): string {
  return (
    line<Num>()
      .defined((v) => v !== null)
      .x((_, i) => x(at[i]))
      .y((v) => y(v!))(values) ?? ""
  );
}
