import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Alert, Card, Health } from "../api/client";
import { address, at, here, serve } from "../test/served";
import { DatasetsPage } from "./DatasetsPage";
import { scoresOf } from "./datasets/Rows";

const now = "2026-06-17T09:00:00Z";
const hour = 3_600_000;

const health = (name: string, more: Partial<Health> = {}) =>
  ({
    dataset: { name, owner: "mara", tags: ["night"], zone: "UTC" },
    state: "in time",
    message: "",
    worst: "",
    open_alerts: 0,
    spark_of: "rows",
    spark: {
      from: "2026-06-10T09:00:00Z",
      period_seconds: 3600,
      observed: Array.from({ length: 168 }, () => 10),
      expected: Array.from({ length: 168 }, () => 8),
      low: null,
      high: null,
    },
    rows_24h: 240,
    rows_7d: 1680,
    rows_30d: 7200,
    lowest_24h: 200,
    highest_24h: 280,
    bytes_24h: 24_000,
    bytes_7d: 168_000,
    bytes_30d: 720_000,
    bytes_per_row: 100,
    deviation_24h: 0.2,
    age_seconds: 1800,
    load: { overdue: false, deadline: "2026-06-17T11:30:00Z" },
    ...more,
  }) as unknown as Health;

const served = (list: Health[], alerts: Partial<Alert>[] = [], cards: Partial<Card>[] = []) =>
  serve({
    "GET /datasets": { body: list },
    "GET /me": { body: { now } },
    "GET /scorecard": { body: { monitors: cards } },
    "GET /alerts": { body: { alerts } },
  });

const names = () =>
  screen
    .getAllByRole("row")
    .slice(1)
    .map((r) => r.querySelector("code")?.textContent);
const row = (name: string) => screen.getByText(name).closest("tr")!;

test("how many arrive as expected, and what has stopped or cannot be read", async () => {
  served([
    health("a"),
    health("b", { worst: "critical", load: { overdue: true, deadline: now } as Health["load"] }),
    health("c", { state: "failed" }),
    health("d"),
  ]);
  at("/datasets", <DatasetsPage />);
  await expect
    .poll(here)
    .toBe("Two of four datasets arrive as expected; one loader has stopped and one cannot be read.");
});

test("what is overdue comes first, then what rings, then the furthest from expected", async () => {
  served([
    health("calm"),
    health("far", { deviation_24h: -2.4 }),
    health("late", { load: { overdue: true, deadline: now } as Health["load"] }),
    health("rings", { worst: "warning", open_alerts: 3 }),
  ]);
  at("/datasets", <DatasetsPage />);
  await screen.findByText("calm");
  expect(names()).toEqual(["late", "rings", "far", "calm"]);
  expect(within(row("far")).getByText("−2.4").className).toContain("text-verm");
  expect(within(row("rings")).getByText("warning, +2")).toBeTruthy();
});

test("heads sort the largest first and stand in the address; what has none comes last", async () => {
  served([health("a", { rows_7d: 5 }), health("b", { rows_7d: null }), health("c", { rows_7d: 900 })]);
  at("/datasets", <DatasetsPage />);
  await screen.findByText("a");
  await userEvent.click(screen.getByRole("button", { name: "7 d" }));
  expect(address()).toBe("/datasets?sort=week");
  expect(names()).toEqual(["c", "a", "b"]);
  await userEvent.click(screen.getByRole("button", { name: /^deviation/ }));
  expect(address()).toBe("/datasets");
});

test("bytes take the place of rows", async () => {
  served([health("a")]);
  at("/datasets", <DatasetsPage />);
  await screen.findByText("a");
  await userEvent.click(screen.getByRole("radio", { name: "bytes" }));
  expect(screen.getByText("per row")).toBeTruthy();
  expect(row("a").textContent).toContain("24 kB168 kB720 kB100 B");
});

test("a stretch that is picked narrows rows, difference and alerts to it", async () => {
  const from = Date.parse("2026-06-12T00:00:00Z");
  served(
    [health("a"), health("b")],
    [
      {
        id: 5,
        dataset: "a",
        raised_at: "2026-06-12T03:00:00Z",
        since: "2026-06-12T02:00:00Z",
        ended_at: "2026-06-12T05:00:00Z",
      },
      {
        id: 6,
        dataset: "a",
        raised_at: "2026-06-14T03:00:00Z",
        since: "2026-06-14T02:00:00Z",
        ended_at: null,
      },
    ],
  );
  const stretch = [from, from + 6 * hour].map((t) => new Date(t).toISOString());
  at(`/datasets?from=${stretch[0]}&to=${stretch[1]}`, <DatasetsPage />);
  await screen.findByText(/rows, difference and alerts are of this stretch/);
  await expect.poll(() => within(row("a")).queryByRole("link")?.textContent).toBe("1 alert");
  expect(row("a").textContent).toContain("60+25 %"); // six hours of 10 where 8 were expected
  expect(within(row("b")).getByText("none")).toBeTruthy();
  await userEvent.click(within(row("a")).getByRole("link"));
  expect(address()).toBe("/alerts/5");
});

test("letting go of the stretch shows all seven days again", async () => {
  served([health("a")]);
  at("/datasets?from=2026-06-12T00:00:00Z&to=2026-06-12T06:00:00Z&sort=age", <DatasetsPage />);
  await userEvent.click(await screen.findByText("all 7 days"));
  expect(address()).toBe("/datasets?sort=age");
  expect(screen.getByText(/Drag over the days/)).toBeTruthy();
});

test("a row opens its dataset, by press and by key", async () => {
  served([health("ops.sales")]);
  at("/datasets", <DatasetsPage />);
  fireEvent.keyDown(await screen.findByText("ops.sales"), { key: "Enter" });
  expect(address()).toBe("/datasets/ops.sales");
});

test("when the next load is due is a time today, and a day with it otherwise", async () => {
  served([
    health("a"),
    health("b", { load: { overdue: false, deadline: "2026-06-18T02:15:00Z" } as Health["load"] }),
    health("c", { load: null as unknown as Health["load"], age_seconds: null }),
  ]);
  at("/datasets", <DatasetsPage />);
  await expect.poll(() => row("a").textContent).toContain("11:30");
  expect(row("a").textContent).not.toContain("Wed");
  expect(row("b").textContent).toContain("Thu");
  expect(row("c").textContent).toContain("–");
});

test("nothing measured leads to the set-up; nothing that fits says so", async () => {
  served([]);
  const { unmount } = at("/datasets", <DatasetsPage />);
  expect((await screen.findByText("set up a source")).getAttribute("href")).toBe("/setup");
  expect(here()).toBe("No dataset is watched yet.");
  unmount();
  served([health("a")]);
  at("/datasets?find=day", <DatasetsPage />);
  expect(await screen.findByText("Nothing fits the filter.")).toBeTruthy();
});

test("the precision of a dataset is that of all its monitors' labelled alerts together", async () => {
  const card = (dataset: string, faults: number, noise: number) => ({ dataset, faults, noise }) as Card;
  expect([...scoresOf([card("a", 3, 1), card("b", 0, 0), card("a", 5, 1)])]).toEqual([
    ["a", { k: 8, n: 10 }],
    ["b", { k: 0, n: 0 }],
  ]);
  served([health("a"), health("b")], [], [card("a", 3, 1), card("b", 0, 0), card("a", 5, 1)]);
  at("/datasets", <DatasetsPage />);
  // Wilson's interval of 8 of 10: Newcombe 1998 gives 0.490 to 0.943.
  expect(await screen.findByRole("img", { name: "0.80, between 0.49 and 0.94" })).toBeTruthy();
  expect(within(row("b")).getAllByText("–").length).toBeGreaterThan(0);
});
