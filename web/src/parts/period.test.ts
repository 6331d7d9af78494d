import { expect, test } from "vitest";
import { period, periods, wider } from "./period";

test.each([
  [300, "5 min", "periods of 5 min"],
  [3600, "1 h", "hours"],
  [86_400, "24 h", "days"],
  [604_800, "week", "weeks"],
  [2_592_000, "month", "months"],
  [31_536_000, "year", "years"],
])("a period of %d s is called %s, and several of them %s", (seconds, one, many) => {
  expect(period(seconds)).toBe(one);
  expect(periods(seconds)).toBe(many);
});

test("of longer periods as many are shown as of days", () => {
  expect([300, 3600, 43_200].map((s) => wider(s, 8))).toEqual([1, 1, 1]);
  expect([86_400, 604_800, 2_592_000].map((s) => wider(s, 8))).toEqual([8, 56, 240]);
});
