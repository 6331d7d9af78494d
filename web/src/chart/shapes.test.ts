import { expect, test } from "vitest";
import { asDeviation, filledAt, joined, paths, type Points, thin, top } from "./shapes";

const hour = 3_600_000;

/** Points of a series by what was observed, within a band of five around ten. */
const points = (observed: (number | null)[], more: Partial<Points> = {}): Points => ({
  at: observed.map((_, i) => i * hour),
  observed,
  expected: observed.map(() => 10),
  low: observed.map(() => 5),
  high: observed.map(() => 15),
  deviation: observed.map((v) => (v === null ? null : (v - 10) / 5)),
  ...more,
});

const same = (v: number) => v;

/** How many strokes a path is made of. */
const strokes = (path: string) => path.split("M").length - 1;

test("thinning keeps the lowest and the highest of every stretch, in the order of time", () => {
  const observed = Array.from({ length: 5000 }, (_, i) => 10 + Math.sin(i / 40));
  observed[1234] = 0;
  observed[4321] = 99;
  const p = thin(points(observed), 400);
  expect(p.at.length).toBeLessThanOrEqual(400);
  expect(p.observed).toContain(0);
  expect(p.observed).toContain(99);
  expect(p.at.every((at, i) => i === 0 || at > p.at[i - 1])).toBe(true);
  expect(p.at[p.observed.indexOf(0)]).toBe(1234 * hour);
});

test("what is short enough is drawn whole", () => {
  const p = points([1, 2, 3]);
  expect(thin(p, 3)).toBe(p);
});

test("all columns are thinned alike, and those that are not there stay away", () => {
  const observed = Array.from({ length: 100 }, (_, i) => i);
  const p = thin(
    points(observed, { floor: observed.map((v) => -v), filled: observed.map((v) => v % 2 === 0) }),
    10,
  );
  expect(p.floor).toEqual(p.observed.map((v) => -v!));
  expect(p.filled).toEqual(p.observed.map((v) => v! % 2 === 0));
  expect(p.ceiling).toBeUndefined();
  for (const list of [p.expected, p.low, p.high, p.deviation]) expect(list).toHaveLength(p.at.length);
});

test("a stretch in which nothing came is thinned to gaps, not to zeros", () => {
  const p = thin(points(Array.from({ length: 90 }, (_, i) => (i >= 30 && i < 60 ? null : i))), 12);
  expect(p.observed.some((v) => v === null)).toBe(true);
  expect(p.observed).not.toContain(0.5);
});

test("what came and what was expected decide the axis; a band far above is cut", () => {
  expect(top(points([4, 12]))).toBe(15);
  expect(top(points([4, 12], { high: [400, 400] }))).toBe(30);
  expect(top(points([4, 40]))).toBe(40);
  expect(top(points([null, null], { expected: [null, null], high: [7, 8] }))).toBe(8);
  expect(top(points([null], { expected: [null], high: [null] }))).toBe(1);
});

test("a person's bound is in sight where it lies near, and flattens nothing where it lies far", () => {
  expect(top(points([10, 12], { high: [12, 12], ceiling: [16, 16] }))).toBe(16);
  expect(top(points([10, 12], { high: [12, 12], ceiling: [900, 900] }))).toBe(12);
});

test("a line is broken where nothing came, and what was put there is no part of it", () => {
  const drawn = (p: Points) => paths(p, same, same);
  expect(strokes(drawn(points([8, 9, null, 11, 12])).observed)).toBe(2);
  expect(strokes(drawn(points([8, 9, 10, 11, 12])).observed)).toBe(1);
  expect(
    strokes(drawn(points([8, 9, 10, 11, 12], { filled: [false, false, true, false, false] })).observed),
  ).toBe(2);
});

test("only what lies outside of the band is filled, to the side where it lies", () => {
  const inside = paths(points([8, 12]), same, same);
  // Where a value lies inside, the area has no height: both of its edges are the band's.
  expect(inside.below).toBe(`M0,5L${hour},5L${hour},5L0,5Z`);
  expect(inside.above).toBe(`M0,15L${hour},15L${hour},15L0,15Z`);
  const low = paths(points([2, 2]), same, same);
  expect(low.below).toBe(`M0,2L${hour},2L${hour},5L0,5Z`);
  expect(low.above).toBe(inside.above);
  const high = paths(points([20, 20]), same, same);
  expect(high.above).toBe(`M0,20L${hour},20L${hour},15L0,15Z`);
});

test("without a band there is none, and without bounds no line of them", () => {
  const p = paths(points([1, 2], { low: [null, null], high: [null, null] }), same, same);
  expect(p.band).toBe("");
  expect(p.bounds).toBe("");
  expect(paths(points([1, 2], { floor: [0, 0], ceiling: [9, null] }), same, same).bounds).toBe(
    `M0,0L${hour},0M0,9Z`,
  );
});

test("values that were put where none came are known by their places", () => {
  expect(filledAt(points([8, 9, null], { filled: [false, true, true] }))).toEqual([[hour, 9]]);
  expect(filledAt(points([8, 9]))).toEqual([]);
});

test("as deviation the band is from −1 to 1 about zero, and what is far off is cut at six", () => {
  const d = asDeviation(points([10, 60, null, -90], { floor: [1, 1, 1, 1] }));
  expect(d.observed).toEqual([0, 6, null, -6]);
  expect(d.low).toEqual([-1, -1, -1, -1]);
  expect(d.high).toEqual([1, 1, 1, 1]);
  expect(d.expected).toEqual([0, 0, 0, 0]);
  expect(d.floor).toBeUndefined();
});

test("where nothing was expected there is no deviation to draw a band for", () => {
  expect(asDeviation(points([1, 2], { expected: [null, 10] })).low).toEqual([null, -1]);
});

test("a line through values has a gap where one is missing", () => {
  expect(joined([0, 1, 2, 3], [5, null, 6, 7], same, same)).toBe("M0,5ZM2,6L3,7");
  expect(joined([], [], same, same)).toBe("");
});
