import { expect, test } from "vitest";
import type { Chart } from "../../api/client";
import { back, laid, middle, scaled } from "./compare";

const hours = (from: string, observed: (number | null)[]) =>
  ({
    at: observed.map((_, i) => new Date(Date.parse(from) + i * 3_600_000).toISOString()),
    observed,
  }) as unknown as Chart;

test("each period meets the one of a week before, and what is missing there stays missing", () => {
  const now = hours("2026-06-17T00:00:00Z", [1, 2, 3]),
    before = hours("2026-06-10T01:00:00Z", [20, null]);
  expect(laid(now, before, back.week)).toEqual([20, 20, null]);
});

test("a year before is 52 weeks, so that weekdays meet", () => {
  expect(new Date(Date.parse("2026-06-17T00:00:00Z") - back.year).getUTCDay()).toBe(3);
  expect(new Date("2026-06-17T00:00:00Z").getUTCDay()).toBe(3);
});

test("another series is brought to the same mean, gaps left out", () => {
  const own = hours("2026-06-17T00:00:00Z", [10, null, 30]);
  expect(scaled([1, 3, null], own)).toEqual([10, 30, null]);
  expect(scaled([0, 0, null], own)).toEqual([0, 0, null]);
});

test("siblings are their middle at each period, each brought to the same mean", () => {
  const own = hours("2026-06-17T00:00:00Z", [10, 20, 30]);
  const like = [
    hours("2026-06-17T00:00:00Z", [1, 2, 3]),
    hours("2026-06-17T00:00:00Z", [100, 200, 300]),
    hours("2026-06-17T00:00:00Z", [20, null, 20]),
  ];
  expect(middle(own, like)).toEqual([10, 20, 30]);
  expect(middle(own, like.slice(1))).toEqual([15, 20, 25]);
  expect(middle(own, [])).toEqual([null, null, null]);
});
