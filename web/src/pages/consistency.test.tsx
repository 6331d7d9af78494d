import { fireEvent, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Sheet } from "../api/client";
import { address, at, serve } from "../test/served";
import { ConsistencyPage } from "./ConsistencyPage";

type Row = NonNullable<Sheet["series"]>[number];

const row = (id: number, more: Partial<Row> = {}) =>
  ({
    series_id: id,
    metric: "gates",
    segment: `gate ${id}`,
    kind: "count",
    now: 1100,
    usual: 1000,
    change: 0.1,
    low: 880,
    high: 1120,
    off: 0.8,
    year_before: null,
    verdict: "inside",
    days_of_known_faults: 0,
    ...more,
  }) as Row;

const served = (series: Row[], more: Partial<Sheet> = {}) =>
  serve({
    "GET /consistency": {
      body: {
        sentence: "One of 2 series lies outside what its weeks had before.",
        name: "week 25 of 2026",
        from: "2026-06-15",
        to: "2026-06-21",
        skipped: 0,
        series,
        ...more,
      },
    },
  });

const cells = (name: string) =>
  [...screen.getByRole("link", { name }).closest("tr")!.querySelectorAll("td")].map((c) => c.textContent);

test("each series stands beside what is usual and allowed, and what lies outside stands out", async () => {
  served([row(1), row(2, { now: 400, change: -0.6, off: 4, verdict: "below", days_of_known_faults: 2 })]);
  at("/consistency", <ConsistencyPage />);
  await screen.findByText(/One of 2 series lies outside/);
  expect(cells("gates at gate 1")).toEqual([
    "gates at gate 1",
    "1,100",
    "1,000",
    "+10 %",
    "880 to 1,120",
    "inside",
  ]);
  expect(cells("gates at gate 2").slice(3)).toEqual([
    "−60 %",
    "880 to 1,120",
    "below, known faults on 2 days",
  ]);
  expect(screen.getByText("−60 %", { selector: "td span" }).className).toContain("text-verm");
  expect(screen.getByText("+10 %", { selector: "td span" }).className).toBe("");
});

test("a share's change is in points, and what has too few days says so and is not drawn", async () => {
  served([
    row(1, { kind: "share", now: 0.06, usual: 0.04, change: 0.02, low: 0.03, high: 0.05 }),
    row(2, { now: null, usual: null, change: null, low: null, high: null, off: 0, verdict: "too little" }),
  ]);
  at("/consistency", <ConsistencyPage />);
  await screen.findByRole("link", { name: "gates at gate 1" });
  expect(cells("gates at gate 1").slice(1, 5)).toEqual(["6.0 %", "4.0 %", "+2.0 %", "3.0 % to 5.0 %"]);
  expect(cells("gates at gate 2").slice(1)).toEqual(["–", "–", "–", "–", "too little"]);
  expect(document.querySelectorAll("circle")).toHaveLength(1);
  expect(screen.getByText(/1 series has too few days to say/)).toBeTruthy();
});

test("where nothing can be held against before, nothing is drawn and that is said", async () => {
  served([row(1, { usual: 0, now: 0 })]);
  at("/consistency", <ConsistencyPage />);
  expect(await screen.findByText(/Nothing to draw/)).toBeTruthy();
  expect(document.querySelector("circle")).toBeNull();
});

test("only what lies outside is drawn large, with how far such a series strays by itself", async () => {
  served([row(1), row(2, { now: 2000, off: 5 }), row(3, { now: 990, usual: 990 })]);
  at("/consistency", <ConsistencyPage />);
  await screen.findByRole("group", { name: "What came beside what is usual" });
  const dots = [...document.querySelectorAll("circle")];
  expect(dots.map((d) => d.getAttribute("r"))).toEqual(["2.6", "4", "2.6"]);
  expect(dots[1].querySelector("title")?.textContent).toBe("gates at gate 2: 2,000, usually 1,000");
  expect(document.querySelectorAll('line[stroke-width="1.6"]')).toHaveLength(1);
  // More than usual lies above less than usual.
  expect(Number(dots[1].getAttribute("cy"))).toBeLessThan(Number(dots[2].getAttribute("cy")));
});

test("a year before is a column only where some series has one", async () => {
  served([row(1, { year_before: -0.25 }), row(2)]);
  at("/consistency", <ConsistencyPage />);
  await screen.findByText("year before");
  expect(cells("gates at gate 1")[5]).toBe("−25 %");
  expect(cells("gates at gate 2")[5]).toBe("–");
});

test("spans, days and the tolerance stand in the address, and are what is asked for", async () => {
  served([row(1)]);
  at("/consistency?by=week&dataset=ops.sales", <ConsistencyPage />);
  await screen.findByText("week 25 of 2026");
  await userEvent.click(screen.getByText("◂ earlier"));
  expect(new URLSearchParams(address().split("?")[1]).get("day")).toBe("2026-06-14");
  await screen.findByText("week 25 of 2026");
  await userEvent.click(screen.getByText("later ▸"));
  expect(new URLSearchParams(address().split("?")[1]).get("day")).toBe("2026-06-22");
  fireEvent.change(screen.getByLabelText("Tolerance"), { target: { value: "25" } });
  expect(address()).toContain("tolerance=0.25");
  fireEvent.change(screen.getByLabelText("Spans before"), { target: { value: "1" } });
  expect(address()).not.toContain("back=");
  fireEvent.change(screen.getByLabelText("Spans before"), { target: { value: "12" } });
  expect(address()).toContain("back=12");
  await userEvent.click(screen.getByRole("radio", { name: "month" }));
  expect(address()).toContain("by=month");
  expect(address()).not.toContain("back=");
  expect(address()).not.toContain("day=");
  expect(address()).toContain("dataset=ops.sales");
});

test("what is refused is said in the service's words", async () => {
  serve({ "GET /consistency": { status: 422, body: { detail: "the day 2031-01-01 is not over" } } });
  at("/consistency?day=2031-01-01", <ConsistencyPage />);
  expect((await screen.findByRole("alert")).textContent).toBe("the day 2031-01-01 is not over");
});

test("series that found no place on the sheet are counted", async () => {
  served([row(1)], { skipped: 1200 });
  at("/consistency?tag=night", <ConsistencyPage />);
  expect((await screen.findByText(/more series are not on this sheet/)).textContent).toContain("1200");
  expect(screen.getByRole("link", { name: "night" }).getAttribute("href")).toBe("/tags/night");
});
