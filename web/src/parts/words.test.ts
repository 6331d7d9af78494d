import { afterEach, expect, test } from "vitest";
import { ago, bytes, count, duration, number, rarity, showIn, signed, time, value } from "./words";

afterEach(() => showIn(undefined));

test("figures have as many digits as they bear, a true minus, and a word where there is none", () => {
  expect([1234.4, 12.34, 3.14159, 0.1234, -5, null].map((x) => number(x))).toEqual([
    "1,234",
    "12",
    "3.1",
    "0.12",
    "−5",
    "–",
  ]);
  expect(signed(0.04)).toBe("0.0");
  expect(signed(2)).toBe("+2.0");
  expect(value(0.0512, "share")).toBe("5.1 %");
  expect(bytes(1_234_567)).toBe("1.2 MB");
  expect(count(1, "alert")).toBe("1 alert");
});

test("durations and return periods are said as people say them", () => {
  expect([90, 600, 5400, 7200, 86400 * 3, 86400 * 730].map(duration)).toEqual([
    "90 s",
    "10 min",
    "90 min",
    "2 h",
    "3 d",
    "2 y",
  ]);
  expect(rarity(0)).toBe("–");
  expect(rarity(86400 * 61)).toBe("about once in 61 days");
  expect(rarity(86400 * 365 * 36)).toBe("about once in 36 years");
  expect(rarity(1e12)).toBe("less than once in 100 years");
});

test("a time is written by its own clocks, or all by one zone's", () => {
  const at = "2026-06-17T08:00:00Z";
  expect(time(at, "America/Halifax", "short")).toBe("Wed 05:00");
  expect(time(at, "UTC", "short")).toBe("Wed 08:00");
  showIn("UTC");
  expect(time(at, "America/Halifax", "short")).toBe("Wed 08:00");
});

test("an hour that the clocks go through twice is the same hour, an hour apart", () => {
  expect(time("2026-11-01T04:30:00Z", "America/Halifax", "time")).toBe("01:30");
  expect(time("2026-11-01T05:30:00Z", "America/Halifax", "time")).toBe("01:30");
});

test("what was a moment ago is just now", () => {
  expect(ago(0)).toBe("just now");
  expect(ago(59)).toBe("just now");
  expect(ago(3 * 3600)).toBe("3 h ago");
});
