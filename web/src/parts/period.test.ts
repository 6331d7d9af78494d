import { expect, test } from "vitest";
import { between, period, periods, wider } from "./period";

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

test.each<[string, number, string[]]>([
  ["one alone are days", 86_400, ["2026-06-01T00:00:00Z"]],
  ["each day are days", 86_400, ["2026-06-01T00:00:00Z", "2026-06-02T00:00:00Z", "2026-06-03T00:00:00Z"]],
  [
    "days of which some are left out are days",
    86_400,
    ["2026-06-01T00:00:00Z", "2026-06-02T00:00:00Z", "2026-06-05T00:00:00Z"],
  ],
  ["each week are weeks", 604_800, ["2026-06-01T00:00:00Z", "2026-06-08T00:00:00Z"]],
  [
    "months of 28 to 31 days are months",
    2_592_000,
    ["2026-01-01T00:00:00Z", "2026-02-01T00:00:00Z", "2026-03-01T00:00:00Z"],
  ],
  ["years are years", 31_536_000, ["2024-01-01T00:00:00Z", "2025-01-01T00:00:00Z"]],
])("dates of %s", (_, seconds, dates) => {
  expect(between(dates)).toBe(seconds);
});
