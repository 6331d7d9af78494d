import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Forecast, Metric } from "../api/client";
import { address, at, here, serve } from "../test/served";
import { OutlookPage } from "./OutlookPage";

const day = 86_400_000;

const metric = (name: string, more: Partial<Metric> = {}) =>
  ({
    name,
    dataset: "ops.sales",
    measure: "rows",
    kind: "count",
    comparison: "",
    ...more,
  }) as unknown as Metric;

const forecast = (name: string, more: Partial<Forecast> = {}) =>
  ({
    metric: name,
    series: { id: 4, segment: "" },
    kind: "count",
    zone: "UTC",
    sentence: `${name} goes on.`,
    model: "level and week",
    error: 0.08,
    error_at_days: 30,
    growth: 0.05,
    reaches_at: null,
    limit: null,
    past_at: ["2026-06-15T00:00:00Z", "2026-06-16T00:00:00Z"],
    past: [98, null],
    at: [0, 1, 2].map((i) => new Date(Date.parse("2026-06-17T00:00:00Z") + i * day).toISOString()),
    expected: [100, 101, 102],
    low: [90, 90, 90],
    high: [110, 112, 115],
    total: [100, 201, 303],
    chance: [0, 0.01, 0.02],
    ...more,
  }) as unknown as Forecast;

const served = (list: Forecast[], metrics = [metric("sales"), metric("staff", { dataset: "ops.staff" })]) =>
  serve({ "GET /metrics": { body: metrics }, "GET /forecasts": { body: list } });

const asked = () => new URLSearchParams(address().split("?")[1]);

test.each<[string, string, Forecast[]]>([
  ["/outlook", "No series is old enough to be forecast.", []],
  ["/outlook", "sales goes on.", [forecast("sales")]],
  [
    "/outlook",
    "Of two series one grows and none shrinks by 2 % or more in 60 days.",
    [forecast("sales"), forecast("staff", { growth: 0.01 })],
  ],
  [
    "/outlook?days=180",
    "Of three series none grows and two shrink by 2 % or more in 180 days.",
    [forecast("a", { growth: -0.2 }), forecast("b", { growth: -0.02 }), forecast("c", { growth: null })],
  ],
  [
    "/outlook?limit=150",
    "None of two series reaches 150 within 60 days.",
    [forecast("sales"), forecast("staff")],
  ],
  [
    "/outlook?limit=150",
    "One of two series reaches 150 within 60 days.",
    [forecast("sales", { reaches_at: "2026-07-01T00:00:00Z" }), forecast("staff")],
  ],
])("%s: %s", async (path, says, list) => {
  served(list);
  at(path, <OutlookPage />);
  await expect.poll(here).toBe(says);
});

test("of several series growth, sum and when a limit is reached stand in a table", async () => {
  served([
    forecast("sales", { reaches_at: "2026-07-01T00:00:00Z" }),
    forecast("staff", { kind: "share", expected: [0.4], low: [0.3], high: [0.5], total: [], error: 0.02 }),
  ]);
  at("/outlook?limit=150", <OutlookPage />);
  await screen.findByText("reaches 150");
  const rows = screen.getAllByRole("row").slice(1);
  const cells = (i: number) =>
    within(rows[i])
      .getAllByRole("cell")
      .map((c) => c.textContent);
  expect(cells(0)).toEqual(["sales", "102", "90 to 115", "+5.0 %", "303", "Wed 1 Jul", "8 %"]);
  expect(cells(1)).toEqual([
    "staff",
    "40.0 %",
    "30.0 % to 50.0 %",
    "+5.0 %",
    "–",
    "not by then (2 %)",
    "2.0 %",
  ]);
});

test("of longer periods nothing is said of days", async () => {
  const months = ["2026-07-01T00:00:00Z", "2026-08-01T00:00:00Z", "2026-09-01T00:00:00Z"];
  served([forecast("sales", { at: months }), forecast("staff")]);
  at("/outlook", <OutlookPage />);
  expect(await screen.findByText("a period by then")).toBeTruthy();
  expect(screen.getByText(/^Local days, of longer periods those, known faults/)).toBeTruthy();
});

test("metrics are chosen one by one, those of one dataset together; freshness has no outlook", async () => {
  served(
    [],
    [
      metric("sales"),
      metric("refunds"),
      metric("age", { measure: "freshness" }),
      metric("psi", { comparison: "x" }),
    ],
  );
  at("/outlook?metric=sales", <OutlookPage />);
  const boxes = await screen.findAllByRole<HTMLInputElement>("checkbox");
  expect(boxes.map((b) => [b.closest("label")!.textContent, b.checked])).toEqual([
    ["sales", true],
    ["refunds", false],
  ]);
  await userEvent.click(screen.getByLabelText("refunds"));
  expect(asked().getAll("metric")).toEqual(["sales", "refunds"]);
  await userEvent.click(screen.getByLabelText("sales"));
  expect(asked().getAll("metric")).toEqual(["refunds"]);
});

test("what cannot be summed is shown by segment, and that is said", async () => {
  served([forecast("share")], [metric("share", { kind: "share", measure: "null_share" })]);
  at("/outlook?metric=share", <OutlookPage />);
  expect(await screen.findByText(/cannot be summed over segments/)).toBeTruthy();
  expect(screen.getByRole("radio", { name: "each segment" }).getAttribute("data-state")).toBe("on");
});

test("days, segments, limit and probability stand in the address", async () => {
  served([forecast("sales")]);
  at("/outlook", <OutlookPage />);
  await screen.findByRole("heading", { name: /sales/, level: 2 });
  await userEvent.click(screen.getByRole("radio", { name: "180 d" }));
  await userEvent.click(screen.getByRole("radio", { name: "each segment" }));
  fireEvent.change(screen.getByLabelText("Limit"), { target: { value: "120" } });
  fireEvent.change(screen.getByLabelText("Probability"), { target: { value: "0.9" } });
  expect(Object.fromEntries(asked())).toEqual({
    days: "180",
    segments: "each",
    limit: "120",
    probability: "0.9",
  });
  fireEvent.change(screen.getByLabelText("Limit"), { target: { value: "" } });
  fireEvent.change(screen.getByLabelText("Probability"), { target: { value: "1" } }); // nothing is certain
  await userEvent.click(screen.getByRole("radio", { name: "together" }));
  expect(Object.fromEntries(asked())).toEqual({ days: "180" });
});

test("what is refused is said, and without a metric there is nothing to say", async () => {
  serve({
    "GET /metrics": { body: [metric("sales")] },
    "GET /forecasts": { status: 422, body: { detail: "days: at most 365" } },
  });
  const { unmount } = at("/outlook?days=9000", <OutlookPage />);
  expect((await screen.findByRole("alert")).textContent).toBe("days: at most 365");
  unmount();
  served([], []);
  at("/outlook", <OutlookPage />);
  await expect.poll(here).toBe("Nothing is measured yet: there is nothing to forecast.");
});
