import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, test } from "vitest";
import type { Trial } from "../api/client";
import { at, here, serve } from "../test/served";
import { TrialPage } from "./TrialPage";

const share = (k: number, n: number) => ({ k, n, estimate: n ? k / n : null, low: 0, high: 1 });

const told = (more: object = {}) => ({
  monitor: "gates-volume",
  series_id: 3,
  segment: "Fennick",
  since: "2026-06-10T04:00:00Z",
  raised_at: "2026-06-10T06:00:00Z",
  closed_at: "2026-06-10T09:00:00Z",
  outcome: "false",
  incident: "",
  ...more,
});

const trial = (more: object = {}) =>
  ({
    sentence: "The proposal tells 3 alerts fewer and loses no incident.",
    today: {
      from: "2026-05-01T00:00:00Z",
      to: "2026-06-01T00:00:00Z",
      series: 12,
      alerts: [told(), told(), told(), told()],
      overall: { precision_catalogue: share(2, 6), recall: share(3, 4) },
    },
    proposed: { alerts: [told()], overall: { precision_catalogue: share(2, 3), recall: share(3, 4) } },
    paired: {
      false_alarms: -3,
      false_alarms_low: -5,
      false_alarms_high: -1,
      false_alarms_p: 0.03,
      precision: 0.33,
      precision_low: 0.02,
      precision_high: 0.6,
      recall: 0,
      recall_low: null,
      recall_high: null,
      recall_p: 1,
    },
    gone: [told(), told({ outcome: "hit", incident: "INC-4" })],
    new: [],
    stays: 1,
    incidents_gained: [],
    incidents_lost: [],
    ...more,
  }) as unknown as Trial;

const task = (state: string, more: object = {}) => ({
  id: 7,
  state,
  subject: "gates-volume",
  done: 0,
  total: 0,
  message: "",
  ...more,
});

function open(answers: Parameters<typeof serve>[0]) {
  const asked = serve({
    "GET /me": { body: { now: "2026-06-17T09:00:00Z" } },
    "GET /alerts": { body: { alerts: [] } },
    ...answers,
  });
  at(
    "/trials/7",
    <Routes>
      <Route path="/trials/:id" element={<TrialPage />} />
    </Routes>,
  );
  return asked;
}

const cells = (name: string) =>
  [...screen.getByRole("cell", { name }).closest("tr")!.querySelectorAll("td")].map((c) => c.textContent);

test("both configurations stand side by side, with how sure the difference is", async () => {
  open({ "GET /trials/7": { body: { task: task("done"), trial: trial() } } });
  await expect.poll(here).toBe("The proposal tells 3 alerts fewer and loses no incident.");
  expect(cells("Alerts")).toEqual(["Alerts", "4", "1", "2 gone, 0 new", "", ""]);
  expect(cells("False alarms")).toEqual([
    "False alarms",
    "4",
    "1",
    "−3",
    "−5 to −1",
    "unlikely to be chance",
  ]);
  expect(cells("Precision")).toEqual(["Precision", "0.33", "0.67", "+0.33", "+0.02 to +0.60", ""]);
  expect(cells("Recall").slice(1)).toEqual(["0.75", "0.75", "0.00", "", ""]);
  expect(cells("Incidents found").slice(1, 4)).toEqual(["3 of 4", "3 of 4", "the same"]);
});

test("incidents that are gained or lost are named", async () => {
  const found = trial({ incidents_gained: ["INC-1", "INC-2"], incidents_lost: ["INC-9"] });
  open({ "GET /trials/7": { body: { task: task("done"), trial: found } } });
  await expect.poll(() => screen.queryByText("gained INC-1, INC-2; lost INC-9")).toBeTruthy();
});

test("what goes is called by what it was, and what is not there is said", async () => {
  open({ "GET /trials/7": { body: { task: task("done"), trial: trial() } } });
  const gone = (await screen.findByRole("heading", { name: /^Gone/ })).closest("section")!;
  expect(within(gone).getByText("2 alerts")).toBeTruthy();
  expect(within(gone).getByText("false alarm")).toBeTruthy();
  expect(within(gone).getByText("INC-4")).toBeTruthy();
  const fresh = screen.getByRole("heading", { name: /^New/ }).closest("section")!;
  expect(within(fresh).getByText("None.")).toBeTruthy();
  expect(screen.getByText("1 alert told by both, on 12 series.")).toBeTruthy();
});

test("of many that go eight are drawn and the rest counted", async () => {
  const many = trial({ gone: Array.from({ length: 11 }, () => told()) });
  open({ "GET /trials/7": { body: { task: task("done"), trial: many } } });
  expect(await screen.findByText("and 3 more")).toBeTruthy();
  expect(document.querySelectorAll("[data-drawn]")).toHaveLength(8);
});

test("one that runs says how far it is, and can be called off", async () => {
  const asked = open({
    "GET /trials/7": { body: { task: task("running", { done: 30, total: 120 }) } },
    "POST /tasks/7/cancel": { body: {} },
  });
  await expect.poll(here).toBe("The past is being replayed.");
  const bar = screen.getByRole("progressbar", { name: "replayed" });
  expect(bar.getAttribute("aria-valuenow")).toBe("30");
  expect(bar.querySelector("i")?.style.width).toBe("25%");
  await userEvent.click(screen.getByText("cancel"));
  await expect.poll(() => asked.some((a) => a.method === "POST" && a.path.includes("7"))).toBe(true);
});

test("one that failed says why", async () => {
  open({ "GET /trials/7": { body: { task: task("failed", { message: "the monitor is gone" }) } } });
  expect((await screen.findByRole("alert")).textContent).toBe("the monitor is gone");
  expect(here()).toBe("This trial was failed.");
});
