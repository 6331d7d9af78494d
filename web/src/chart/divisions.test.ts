import { expect, test } from "vitest";
import { divisions, some } from "./divisions";

const at = (text: string) => Date.parse(text);
const iso = (list: number[]) => list.map((t) => new Date(t).toISOString().slice(0, 16));

test("days begin at midnight on the wall, whatever the clocks do and however they differ", () => {
  const halifax = divisions(at("2026-10-31T12:00Z"), at("2026-11-03T12:00Z"), "America/Halifax");
  expect(iso(halifax.at)).toEqual(["2026-11-01T03:00", "2026-11-02T04:00", "2026-11-03T04:00"]);
  expect(halifax.name(halifax.at[0])).toBe("Sun 1 Nov");
  const kolkata = divisions(at("2026-06-01T00:00Z"), at("2026-06-03T00:00Z"), "Asia/Kolkata");
  expect(iso(kolkata.at)).toEqual(["2026-06-01T18:30", "2026-06-02T18:30"]);
});

test("a stretch of years is divided at firsts of months or years, named with the year", () => {
  const months = divisions(at("2025-06-20T00:00Z"), at("2026-01-15T00:00Z"), "Europe/Helsinki");
  expect(iso(months.at)).toEqual([
    "2025-06-30T21:00",
    "2025-07-31T21:00",
    "2025-08-31T21:00",
    "2025-09-30T21:00",
    "2025-10-31T22:00",
    "2025-11-30T22:00",
    "2025-12-31T22:00",
  ]);
  expect(months.name(months.at[6])).toBe("Jan 2026");
  const years = divisions(at("2018-03-01T00:00Z"), at("2026-03-01T00:00Z"), "UTC");
  expect(years.at.map(years.name)).toEqual(["2019", "2020", "2021", "2022", "2023", "2024", "2025", "2026"]);
});

test("of a long list every nth is left", () => {
  expect(some([1, 2, 3, 4, 5, 6, 7], 3)).toEqual([1, 4, 7]);
  expect(some([1, 2], 4)).toEqual([1, 2]);
});
