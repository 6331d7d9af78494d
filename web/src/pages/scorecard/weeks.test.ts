import { expect, test } from "vitest";
import { named } from "./Weeks";

const weeks = (n: number) =>
  Array.from({ length: n }, (_, i) => ({ from: new Date(Date.UTC(2026, 0, 5 + 7 * i)).toISOString() }));

test("every third week of a few is named, of years some five with the year", () => {
  expect(named(weeks(7), "UTC")).toEqual([
    [0, "5 Jan"],
    [3, "26 Jan"],
    [6, "16 Feb"],
  ]);
  const years = named(weeks(300), "UTC");
  expect(years).toHaveLength(5);
  expect(years[1]).toEqual([60, "Mar 2027"]);
});
