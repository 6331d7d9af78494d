import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, test } from "vitest";
import type { Suitability } from "../api/client";
import { at, here, section, serve } from "../test/served";
import { SeriesPage } from "./SeriesPage";

const suits = (more: object = {}) =>
  ({
    series: { id: 7, segment: "Fennick" },
    dataset: "raw.gate_events",
    metric: "gates-rows",
    monitor: "gates-volume",
    measure: "rows",
    unit: "",
    kind: "count",
    zone: "UTC",
    period_seconds: 3600,
    fitness: "suits",
    reasons: ["it foretells 82 % of what happens", "few rows by night"],
    instead: "",
    explained: 0.82,
    half_width: 0.3,
    shape: "level, week",
    have_days: 56,
    need_days: 14,
    best_days: 42,
    missing: 0.01,
    zeros: 0.2,
    repeats: 0,
    ...more,
  }) as unknown as Suitability;

function open(of: Suitability, more: Parameters<typeof serve>[0] = {}) {
  const asked = serve({
    "GET /series/7/suitability": { body: of },
    "GET /me": { body: { now: "2026-06-17T09:30:00Z", name: "mara", role: "editor" } },
    ...more,
  });
  at(
    "/series/7",
    <Routes>
      <Route path="/series/:id" element={<SeriesPage />} />
    </Routes>,
  );
  return asked;
}

test.each<[string, object]>([
  ["A band suits rows at Fennick: it foretells 82 % of what happens.", {}],
  [
    "A band is weak for boardings: it is half noise.",
    { fitness: "weak", unit: "boardings", reasons: ["it is half noise"], series: { id: 7, segment: "" } },
  ],
  [
    "A band does not suit null share at Fennick.",
    { fitness: "unsuitable", measure: "null_share", reasons: [], instead: "bounds" },
  ],
])("%s", async (says, more) => {
  open(suits(more));
  await expect.poll(here).toBe(says);
  if ("instead" in more) expect(screen.getByText("Instead: bounds.")).toBeTruthy();
});

test("how well a band can do is told in figures, with what else speaks for or against it", async () => {
  open(suits());
  const own = await section(/^Suitability/);
  const rows = [...own.querySelectorAll("tr")].map((r) => r.textContent);
  expect(rows).toEqual([
    "foretold82 % of its ordinary variation",
    "half-width30 % of what is expected, median",
    "shapelevel, week",
    "history56 days; 14 needed, from 42 on thresholds are its own",
    "missing, zero, repeated1 %, 20 %, 0 % of its periods",
    "alsofew rows by night",
  ]);
});

test("what is not known is a dash and no figure", async () => {
  open(suits({ explained: null, half_width: null }));
  const own = await section(/^Suitability/);
  expect([...own.querySelectorAll("tr")].slice(0, 2).map((r) => r.textContent)).toEqual([
    "foretold–",
    "half-width–",
  ]);
});

test("each study stands alone: what one cannot say leaves the others", async () => {
  open(suits(), {
    "GET /series/7/trends": { status: 422, body: { detail: "12 whole days are too few" } },
    "GET /series/7/character": { body: { sentences: ["Open 8 to 18.", "Closed on Sundays."], days: 56 } },
  });
  await section(/^Trend and change/);
  expect(await screen.findByText("12 whole days are too few")).toBeTruthy();
  await expect
    .poll(() => document.querySelector("[data-like]")?.textContent)
    .toContain("Open 8 to 18. Closed on Sundays.");
});

test("an expected value is shown in parts that add up, with what was left out", async () => {
  open(suits(), {
    "GET /series/7/explain": {
      body: {
        at: "2026-06-17T08:00:00Z",
        zone: "UTC",
        kind: "count",
        expected: 120,
        parts: [
          { name: "level", amount: 100 },
          { name: "hour of the week", amount: 30 },
          { name: "holiday", amount: -10 },
        ],
        trained_from: "2026-04-20T00:00:00Z",
        trained_to: "2026-06-15T00:00:00Z",
        excluded: [{ from: "2026-05-01T00:00:00Z", to: "2026-05-02T00:00:00Z", why: "known fault" }],
      },
    },
  });
  const why = within(await section(/^Why this was expected/));
  await why.findByText("hour of the week");
  expect(why.getAllByRole("row").map((r) => r.textContent)).toEqual([
    "level+100",
    "hour of the week+30",
    "holiday−10",
    "expected at Wed 08:00120",
  ]);
  const bars = why.getAllByRole("row").map((r) => r.querySelector("rect")!);
  const end = (i: number) => Number(bars[i].getAttribute("x")) + Number(bars[i].getAttribute("width"));
  expect(Number(bars[1].getAttribute("x"))).toBeCloseTo(end(0)); // each begins where the last one ended
  expect(Number(bars[2].getAttribute("x"))).toBeCloseTo(end(3)); // and the last ends at what is expected
  expect(why.getByText(/left out: Fri 1 May known fault/)).toBeTruthy();
});

test("an explanation is asked for another day where somebody wants it", async () => {
  const asked = open(suits());
  const why = within(await section(/^Why this was expected/));
  await userEvent.click(why.getByRole("radio", { name: "a week ago" }));
  await expect.poll(() => asked.filter((a) => a.path === "/series/7/explain").length).toBe(2);
});

test("windows of smoothing are compared, and the one that is recommended is marked", async () => {
  const window = (periods: number, recommended: boolean) => ({
    by: "median",
    periods,
    recommended,
    spikes: [1, 0.5, 0],
    dips: 0.9,
    delay_seconds: 3600 * periods,
    false_gone: periods - 1,
    false_before: 4,
  });
  open(suits(), {
    "GET /series/7/smoothing": {
      body: {
        windows: [window(1, false), window(3, true)],
        sentence: "A median of 3 is worth it.",
        filled: 12,
      },
    },
  });
  const bench = within(await section(/^Smoothing bench/));
  await bench.findByText(/A median of 3 is worth it/);
  const rows = bench.getAllByRole("row").slice(1);
  expect(rows[0].textContent).toContain("none");
  expect(rows[0].textContent).toContain("100 %");
  expect(rows[1].textContent).toContain("median of 3");
  expect(rows[1].textContent).toContain("2 of 4");
  expect(rows[1].className).toBe("font-bold");
  expect(within(rows[1]).getByTitle("recommended")).toBeTruthy();
  expect(bench.getByText("12 periods were filled")).toBeTruthy();
});

test("of months six are forecast, and of hours sixty days", async () => {
  open(suits({ period_seconds: 30 * 86_400 }));
  const ahead = within(await section(/^Forecast/));
  expect(ahead.getAllByRole("radio").map((r) => r.textContent)).toEqual([
    "3 months",
    "6 months",
    "12 months",
  ]);
  expect(ahead.getByRole("radio", { checked: true }).textContent).toBe("6 months");
  expect(ahead.getByText("a month, asked about")).toBeTruthy();
});

test("tests of trend and change stand with their chances, those that found something in bold", async () => {
  open(suits(), {
    "GET /series/7/trends": {
      body: {
        sentence: "There is a trend of 1.5 a day.",
        caution: "It does not follow that it goes on.",
        days: 90,
        zone: "UTC",
        kind: "count",
        at: ["2026-06-01T00:00:00Z", "2026-06-02T00:00:00Z", "2026-06-03T00:00:00Z"],
        value: [100, null, 104],
        slope_a_day: 1.5,
        better: "trend",
        change_at: "2026-06-02T00:00:00Z",
        change_low: "2026-06-01T00:00:00Z",
        change_high: "2026-06-03T00:00:00Z",
        before: 100,
        after: 104,
        tests: [
          { name: "Mann-Kendall", of: "trend", statistic: 1234.56, p: 0.0004, p_bootstrap: 0.001 },
          { name: "Pettitt", of: "change", statistic: 12, p: 0.04, p_bootstrap: 0.2 },
          { name: "sup-F", of: "change", statistic: 3.14159, p: 1, p_bootstrap: null },
        ],
      },
    },
  });
  const trends = within(await section(/^Trend and change/));
  await trends.findByText("Mann-Kendall");
  const cells = trends
    .getAllByRole("row")
    .slice(1)
    .map((r) => [...r.querySelectorAll("td")]);
  expect(cells.map((c) => c.map((d) => d.textContent))).toEqual([
    ["Mann-Kendall", "trend", "1,235", "under .001", ".001"],
    ["Pettitt", "change", "12", ".040", ".200"],
    ["sup-F", "change", "3.142", "1.000", "–"],
  ]);
  expect(cells.map((c) => c[4].className.includes("font-bold"))).toEqual([true, false, false]);
  expect(trends.getByText(/^90 days, the week's shape taken out/).textContent).toContain("What a day owes");
});

test("what stands out is listed by the rules that find it", async () => {
  open(suits(), {
    "GET /metrics/gates-rows/outliers": {
      body: [
        {
          sentence: "2 of 672 stand out.",
          zone: "UTC",
          kind: "count",
          more: 3,
          rules: [
            { name: "z", beyond: 2, word: "", low: 3, high: 200 },
            { name: "fences", beyond: 0, word: "too few values", low: null, high: null },
            { name: "modified z", beyond: 0, word: "", low: null, high: null },
          ],
          odd: [
            { at: "2026-06-16T03:00:00Z", value: 900, usual: 90, z: 8.25, modified_z: null, rules: ["z"] },
          ],
        },
      ],
    },
  });
  const odd = within(await section(/^What stands out/));
  expect(await odd.findByText("z: 2 beyond; fences: 0 beyond (too few values).")).toBeTruthy();
  expect(odd.getAllByRole("row")[1].textContent).toBe("Tue 16 Jun 03:0090090+8.3–z");
  expect(odd.getByText("3 more stand out.")).toBeTruthy();
});

test("earlier weeks stand beside this one, each with its interval", async () => {
  open(suits(), {
    "GET /series/7/earlier": {
      body: {
        sentence: "This week has as many as before.",
        kind: "count",
        against: [
          {
            of: "the week before",
            from: "2026-06-08",
            now: 110,
            then: 100,
            change: 0.1,
            low: -0.02,
            high: 0.22,
            pairs: 7,
          },
          {
            of: "a year ago",
            from: "2025-06-16",
            now: 110,
            then: null,
            change: null,
            low: null,
            high: null,
            pairs: 0,
          },
        ],
      },
    },
  });
  const earlier = within(await section(/^Earlier years and weeks/));
  await earlier.findByText("the week before");
  const rows = earlier
    .getAllByRole("row")
    .slice(1)
    .map((r) => [...r.querySelectorAll("td")].map((c) => c.textContent));
  expect(rows).toEqual([
    ["the week before", "2026-06-08", "110", "100", "+10.0 %", "−2.0 % to +22.0 %", "7"],
    ["a year ago", "2025-06-16", "110", "–", "–", "–", "0"],
  ]);
});

test("a picture gets an address of its own, with an end, that can be copied", async () => {
  let copied = "";
  Object.defineProperty(navigator, "clipboard", {
    configurable: true,
    value: { writeText: (text: string) => Promise.resolve(void (copied = text)) },
  });
  const asked = open(suits(), {
    "POST /series/7/link": {
      body: {
        png: "https://bell.example/p.png",
        svg: "https://bell.example/p.svg",
        until: "2026-09-15T00:00:00Z",
      },
    },
  });
  await userEvent.click(await screen.findByText("90 days"));
  expect((await screen.findByRole("status")).textContent).toContain("works until 2026-09-15");
  expect(asked.find((a) => a.method === "POST")?.body).toEqual({ span_seconds: 7 * 86_400, days: 90 });
  screen.getByText("copy the SVG's address").click();
  expect(await screen.findByText("SVG copied")).toBeTruthy();
  expect(copied).toBe("https://bell.example/p.svg");
});

test("a series that is not there is said", async () => {
  open(suits(), { "GET /series/7/suitability": { status: 404, body: { detail: "there is no series 7" } } });
  expect((await screen.findByRole("alert")).textContent).toBe(
    "The series could not be read: there is no series 7.",
  );
});
