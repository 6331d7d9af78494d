import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Alert } from "../api/client";
import { address, at, here, serve } from "../test/served";
import { AlertsPage } from "./AlertsPage";

const alert = (id: number, more: Partial<Alert> = {}) =>
  ({
    id,
    sentence: `gate ${id} was low`,
    dataset: "raw.gate_events",
    segment: `gate ${id}`,
    monitor: "gates-volume",
    owner: "mara",
    severity: "warning",
    raised_at: "2026-06-17T09:00:00Z",
    since: "2026-06-17T08:00:00Z",
    closed_at: "2026-06-17T12:30:00Z",
    zone: "UTC",
    verdict: "",
    return_period_seconds: 86_400 * 60,
    strength: 1.84,
    ...more,
  }) as unknown as Alert;

const served = (alerts: Alert[], more: Parameters<typeof serve>[0] = {}) =>
  serve({ "GET /alerts": { body: { alerts, total: alerts.length } }, ...more });

test("what is listed is said, and how much of it nobody has answered", async () => {
  served([alert(1), alert(2, { verdict: "fault" }), alert(3, { closed_at: null })]);
  at("/alerts", <AlertsPage />);
  await expect.poll(here).toBe("Three alerts, 2 still without an answer.");
  const rows = screen.getAllByRole("row").slice(1);
  expect(rows[0].textContent).toContain("gate 1 was low");
  expect(rows[0].textContent).toContain("3 h 30 min");
  expect(rows[0].textContent).toContain("about once in 60 days");
  expect(rows[2].textContent).toContain("open");
});

test.each([
  ["/alerts?show=none&dataset=raw.gate_events", "One alert unlabelled of raw.gate_events."],
  [
    "/alerts?tag=night&rule=silence",
    "One alert tagged night by the rule silence, 1 still without an answer.",
  ],
  ["/alerts?from=2026-05-01", "One alert of 2026-05, 1 still without an answer."],
  ["/alerts?held=shadow", "One alert that the filter would hold back, 1 still without an answer."],
  ["/alerts?held=held", "One alert that the filter holds back, 1 still without an answer."],
])("%s says by what it is narrowed", async (path, says) => {
  served([alert(1)]);
  at(path, <AlertsPage />);
  await expect.poll(here).toBe(says);
});

test("a filter keeps what else is asked for, and a link shows everything again", async () => {
  served([]);
  at("/alerts?dataset=ops.sales&sort=-raised_at", <AlertsPage />);
  await screen.findByText(/No such alert/);
  await userEvent.click(screen.getByRole("button", { name: "open" }));
  expect(new URLSearchParams(address().split("?")[1])).toEqual(
    new URLSearchParams("dataset=ops.sales&sort=-raised_at&show=open"),
  );
  expect(screen.getByRole("button", { name: "open" }).getAttribute("aria-pressed")).toBe("true");
  await userEvent.click(screen.getByText("Show all"));
  expect(address()).toBe("/alerts");
});

test("words narrow what is shown: all of them must be there", async () => {
  served([alert(1), alert(2, { dataset: "ops.sales" }), alert(3, { dataset: "ops.sales" })]);
  at("/alerts?find=ops+gate+3", <AlertsPage />);
  await expect.poll(here).toBe("One alert, 1 still without an answer.");
});

test("those that are marked are answered with one key, and the marks go", async () => {
  const asked = served([alert(1), alert(2), alert(3)], { "POST /labels": { body: { labels: [] } } });
  at("/alerts", <AlertsPage />);
  await userEvent.click(await screen.findByLabelText("mark alert 1"));
  await userEvent.click(screen.getByLabelText("mark alert 2"));
  await userEvent.click(screen.getByLabelText("mark alert 3"));
  await userEvent.click(screen.getByLabelText("mark alert 2"));
  expect(screen.getByText(/2 alerts marked/)).toBeTruthy();
  await userEvent.keyboard("n");
  await expect
    .poll(() => asked.find((a) => a.method === "POST")?.body)
    .toEqual({ alerts: [1, 3], verdict: "noise" });
  await expect.poll(() => screen.queryByText(/marked/)).toBeNull();
  expect(address()).toBe("/alerts"); // a mark opens nothing
});

test("a key without marks answers nothing", async () => {
  const asked = served([alert(1)]);
  at("/alerts", <AlertsPage />);
  await screen.findByText("gate 1 was low");
  await userEvent.keyboard("f");
  expect(asked.filter((a) => a.method === "POST")).toEqual([]);
});

test("what was refused is said, and what was marked stays marked", async () => {
  served([alert(1)], { "POST /labels": { status: 403, body: { detail: "viewers label nothing" } } });
  at("/alerts", <AlertsPage />);
  await userEvent.click(await screen.findByLabelText("mark alert 1"));
  await userEvent.keyboard("p");
  expect((await screen.findByRole("alert")).textContent).toContain("viewers label nothing");
  expect(screen.getByText(/1 alert marked/)).toBeTruthy();
});

test("marked alerts become one incident, and it is shown", async () => {
  const asked = served([alert(1), alert(2)], {
    "POST /incidents/of-alerts": { body: { reference: "INC-9" } },
  });
  at("/alerts", <AlertsPage />);
  await userEvent.click(await screen.findByLabelText("mark alert 2"));
  await userEvent.click(screen.getByText("make an incident of them"));
  await expect.poll(address).toBe("/incidents?find=INC-9");
  expect(asked.find((a) => a.path === "/incidents/of-alerts")?.body).toEqual({ alerts: [2] });
});

test("a row opens its alert; what people disagree on and what is held back is marked", async () => {
  served([
    alert(1, { verdict: "fault", disputed: true }),
    alert(2, { held: "held", held_why: "like 12 that were noise" }),
    alert(3, { held: "shadow" }),
  ]);
  at("/alerts", <AlertsPage />);
  await screen.findByText("gate 3 was low");
  const rows = screen.getAllByRole("row").slice(1);
  expect(within(rows[0]).getByTitle("people do not agree on it").textContent).toBe("disputed");
  expect(within(rows[1]).getByTitle("like 12 that were noise").textContent).toBe("held back");
  expect(rows[2].textContent).toContain("would be held");
  await userEvent.click(rows[1]);
  expect(address()).toBe("/alerts/2");
});
