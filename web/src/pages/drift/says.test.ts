import { expect, test } from "vitest";
import type { MatrixCell } from "../../api/client";
import { brief, days, figure, fill, measures } from "./says";

const cell = (state: string, ratio = 0) => ({ state, ratio }) as MatrixCell;

test("a figure in a cell is as short as it can be told apart", () => {
  expect([0, 0.004, 0.0949, 0.17, 1, 2.44, 31, 1234].map(brief)).toEqual([
    ".00",
    ".004",
    ".095",
    ".17",
    "1.0",
    "2.4",
    "31",
    "1,234",
  ]);
});

test("shares are said in percent, counts whole, and anything else with three digits that bear", () => {
  expect(figure("missing_share", 0.0512)).toBe("5.12 %");
  expect(figure("new_share", 0.512)).toBe("51.2 %");
  expect(figure("vanished", 3)).toBe("3");
  expect(figure("psi", 0.2513)).toBe("0.251");
  expect(figure("wasserstein", 12.34)).toBe("12.3");
  expect(figure("chi_square", 612.4)).toBe("612");
});

test("a period is named by its first and last day, in the zone of its rows", () => {
  const zone = "America/Halifax";
  expect(days("2026-11-16T04:00:00Z", "2026-11-23T04:00:00Z", zone)).toBe("16 to 22 Nov");
  expect(days("2026-11-22T04:00:00Z", "2026-11-23T04:00:00Z", zone)).toBe("22 Nov");
  expect(days("2026-10-26T03:00:00Z", "2026-11-02T04:00:00Z", zone)).toBe("26 Oct to 1 Nov");
});

test("a cell is filled by how much of its limit is used, and hatched where nothing can be said", () => {
  expect(fill(cell("too few rows", 9))).toBe("url(#few)");
  const used = [0.2, 0.6, 0.9, 1.5, 3].map((r) => fill(cell(r > 1 ? "over" : "as expected", r)));
  expect(new Set(used).size).toBe(5);
  expect(used[4]).toContain("verm");
});

test("every measure has a name that people read", () => {
  for (const [key, name] of Object.entries(measures)) {
    expect(name).not.toContain("_");
    expect(key).toMatch(/^[a-z_]+$/);
  }
});
