import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import type { Card, Scorecard } from "../../api/client";
import { at, here, serve } from "../../test/served";
import { ScorecardPage } from "../ScorecardPage";
import { range } from "./columns";

const figure = (k: number, n: number) => ({
  k,
  n,
  estimate: n ? k / n : null,
  low: n ? Math.max(0, k / n - 0.1) : null,
  high: n ? Math.min(1, k / n + 0.1) : null,
});

const card = (more: object = {}) =>
  ({
    monitor: "",
    dataset: "",
    name: "",
    measure: "rows",
    alerts: 12,
    faults: 8,
    noise: 2,
    planned: 0,
    unlabelled: 2,
    precision: figure(8, 10),
    precision_catalogue: figure(7, 12),
    recall: figure(6, 8),
    delay_seconds: { estimate: 7200, low: null, high: null },
    false_alarms_per_week: { estimate: 0.5, low: 0.1, high: 1 },
    false_alarms_per_week_if_all_noise: 1.2,
    precision_if_all_noise: 0.66,
    precision_if_all_faults: 0.83,
    f1: 0.77,
    stated_seconds: 0,
    achieved: { groups: 0, between_seconds: null, shortest_seconds: null, longest_seconds: null },
    at_worst: { groups: 0, between_seconds: null, shortest_seconds: null, longest_seconds: null },
    ...more,
  }) as unknown as Card;

const scorecard = (more: object = {}) =>
  ({
    from: "2026-04-01T00:00:00Z",
    to: "2026-06-17T00:00:00Z",
    overall: card(),
    monitors: [card({ monitor: "gates-volume", dataset: "raw.gate_events" })],
    weeks: [],
    by: "",
    groups: [],
    held_back: 0,
    held_back_noise: 0,
    held_back_faults: 0,
    missed: [],
    unwatched: 0,
    outcomes: {},
    ...more,
  }) as unknown as Scorecard;

const served = (s: Scorecard, more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /alerts": { body: { alerts: [] } },
    "GET /scorecard": { body: s },
    "GET /proposals": { body: [] },
    ...more,
  });

test("one sentence says what was worth waking for, and how much of what happened was told", async () => {
  served(scorecard());
  at("/scorecard", <ScorecardPage />);
  await expect
    .poll(here)
    .toBe("80 % of the labelled alerts were worth waking for, and 75 % of known incidents reached someone.");
  const after = screen.getByText(/95 times in 100/).textContent;
  expect(after).toContain("Between 70 % and 90 %, and between 65 % and 85 %");
  expect(after).toContain("median 2 h");
  expect(after).toContain("0.5 to 1.2 a week, from what is labelled to what nobody labelled");
});

test("where nothing is labelled there is no score, and none is made up", async () => {
  const empty = { precision: figure(0, 0), recall: figure(0, 0), precision_if_all_noise: null };
  served(scorecard({ overall: card({ ...empty, alerts: 0, unlabelled: 0 }), monitors: [] }));
  at("/scorecard", <ScorecardPage />);
  await expect.poll(here).toBe("Nothing is labelled yet and no incident is on record: there is no score.");
  expect(screen.getByText("No alert yet.")).toBeTruthy();
});

test("with labels alone only precision is claimed", async () => {
  served(scorecard({ overall: card({ recall: figure(0, 0) }) }));
  at("/scorecard", <ScorecardPage />);
  await expect.poll(here).toContain("worth waking for, and no incident is on record.");
});

test("what was missed is named, and what nothing watched is told apart", async () => {
  served(scorecard({ missed: ["VF-003", "VF-009"], unwatched: 1 }));
  at("/scorecard", <ScorecardPage />);
  expect(await screen.findByText("VF-003, VF-009")).toBeTruthy();
  expect(screen.getByText(/1 of them on measures that no monitor covers yet/)).toBeTruthy();
  expect(screen.getByText(/7 of 12 match an/).textContent).toContain("F1 of labels and catalogue is 0.77");
});

test("what is not labelled widens precision to a range, which is drawn and said", async () => {
  served(scorecard());
  at("/scorecard", <ScorecardPage />);
  expect(await screen.findByLabelText("between 0.66 and 0.83")).toBeTruthy();
  expect(screen.getByText("10 of 12 alerts labelled").getAttribute("href")).toBe("/alerts?show=none");
});

test("the score is broken down by what is chosen, each line a way to the alerts behind it", async () => {
  const asked = served(scorecard({ groups: [card({ name: "harbour data" }), card({ name: "(nobody)" })] }));
  at("/scorecard", <ScorecardPage />);
  expect((await screen.findByText("gates-volume")).getAttribute("href")).toBe("/monitors/gates-volume");
  const before = asked.length;
  await userEvent.click(screen.getByText("owner"));
  expect((await screen.findByText("harbour data")).getAttribute("href")).toBe("/alerts?owner=harbour%20data");
  expect(screen.getByText("(nobody)").closest("a")).toBeNull();
  expect(asked.slice(before).some((a) => a.path === "/scorecard")).toBe(true);
});

test("a replay of the past says what today's settings would have told, and gives it as a file", async () => {
  const kept: { name: string; text: string }[] = [];
  let last: Blob;
  vi.stubGlobal(
    "URL",
    Object.assign(URL, { createObjectURL: (b: Blob) => ((last = b), "blob:x"), revokeObjectURL: () => {} }),
  );
  const click = vi.spyOn(HTMLAnchorElement.prototype, "click").mockImplementation(function (
    this: HTMLAnchorElement,
  ) {
    const name = this.download;
    void last.text().then((text) => kept.push({ name, text }));
  });
  const told = {
    monitor: "gates-volume",
    segment: "Cald, north",
    since: "2026-06-01T00:00:00Z",
    outcome: "hit",
  };
  const asked = served(scorecard(), {
    "POST /backtests": { body: { alerts: [told], series: 6, overall: card() } },
  });
  at("/scorecard", <ScorecardPage />);
  await userEvent.click(await screen.findByText("last 28 days"));
  await screen.findByText(/1 alerts on 6 series: 7 of 12 match an incident/);
  expect(asked.some((a) => a.path === "/backtests")).toBe(true);
  await userEvent.click(screen.getByText("CSV of the alerts"));
  await expect.poll(() => kept[0]?.name).toBe("backtest.csv");
  const [head, row] = kept[0].text.split("\n");
  expect(head.split(",")[0]).toBe("monitor");
  expect(row).toBe('gates-volume,,,"Cald, north",2026-06-01T00:00:00Z,,,,,,hit,');
  click.mockRestore();
});

test("false alarms are one figure where nothing is unlabelled, else from one to another", () => {
  expect(range(card({ false_alarms_per_week_if_all_noise: 0.52 }))).toBe("0.5");
  expect(range(card())).toBe("0.5 to 1.2");
  expect(range(card({ false_alarms_per_week: { estimate: null } }))).toBe("0.0 to 1.2");
});
