import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, test } from "vitest";
import type { Alert, GroupDetail } from "../api/client";
import { address, at, here, serve } from "../test/served";
import { GroupPage } from "./GroupPage";

const alert = (id: number, more: Partial<Alert> = {}) =>
  ({
    id,
    label_id: 10 * id,
    series_id: 0,
    sentence: `raw.t${id} sends nothing`,
    dataset: `raw.t${id}`,
    source: "",
    job: "",
    owner: "",
    verdict: "",
    severity: "warning",
    cause: "silence",
    since: "2026-06-17T08:00:00Z",
    raised_at: "2026-06-17T09:00:00Z",
    closed_at: null,
    zone: "UTC",
    period_seconds: 3600,
    ...more,
  }) as unknown as Alert;

const group = (more: Partial<GroupDetail> = {}) =>
  ({
    id: 4,
    alerts: 2,
    members: [alert(1), alert(2)],
    messages: [],
    sentence: "raw.t1 sends nothing",
    place: "raw.t1",
    origin_alert: 1,
    began_at: "2026-06-17T08:00:00Z",
    opened_at: "2026-06-17T09:00:00Z",
    closed_at: null,
    zone: "UTC",
    taken_by: "",
    taken_at: null,
    answered: 0,
    snoozed_until: null,
    from_history: false,
    ...more,
  }) as unknown as GroupDetail;

const served = (g: GroupDetail, more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /me": { body: { name: "mara", now: "2026-06-17T12:00:00Z" } },
    "GET /groups/4": { body: g },
    "GET /groups": { body: { groups: [g] } },
    "GET /channels": { body: [{ id: 1, name: "pager" }] },
    ...more,
  });

const page = (
  <Routes>
    <Route path="/groups/:id" element={<GroupPage />} />
  </Routes>
);

test("one sentence says what is wrong, how many alerts it is, and since when", async () => {
  served(group());
  at("/groups/4", page);
  await expect.poll(here).toBe("raw.t1 sends nothing, and 1 alert more with it, since Wed 17 Jun 08:00.");
  expect(screen.getByText("likely origin")).toBeTruthy();
  expect(screen.getByText(/Nobody looks after it yet/)).toBeTruthy();
  expect(screen.getByText(/no route leads to a channel for it/)).toBeTruthy();
});

test("what is over says how long it lasted, and one alert alone is no origin of others", async () => {
  served(group({ members: [alert(1)], alerts: 1, closed_at: "2026-06-17T11:00:00Z" }));
  at("/groups/4", page);
  await expect.poll(here).toBe("raw.t1 sends nothing, lasted 3 h.");
  expect(screen.queryByText("likely origin")).toBeNull();
  expect(screen.queryByRole("checkbox")).toBeNull();
});

test("a key answers all of its alerts, each as it was seen", async () => {
  const asked = served(group(), { "POST /labels": { body: {} } });
  at("/groups/4", page);
  await expect.poll(here).toContain("raw.t1");
  await userEvent.keyboard("f");
  await expect
    .poll(() => asked.find((a) => a.path === "/labels")?.body)
    .toEqual({ alerts: [1, 2], verdict: "fault", seen: { 1: 10, 2: 20 } });
});

test("an answer that somebody else gave first is not overwritten, and that is said", async () => {
  served(group(), {
    "POST /labels": { status: 409, body: { detail: "alert 2 was labelled noise by jon since it was read" } },
  });
  at("/groups/4", page);
  await userEvent.click((await screen.findAllByRole("button", { name: /Noise/ }))[0]);
  expect((await screen.findByRole("alert")).textContent).toContain("was labelled noise by jon");
});

test("T looks after it, and gives it back where somebody does", async () => {
  const asked = served(group(), { "POST /groups/4/take": { body: {} } });
  const { unmount } = at("/groups/4", page);
  await userEvent.click(await screen.findByText("I look after it"));
  await expect.poll(() => asked.find((a) => a.path.endsWith("/take"))?.body).toEqual({ back: false });
  unmount();
  const again = served(group({ taken_by: "jon", taken_at: "2026-06-17T10:00:00Z" }), {
    "POST /groups/4/take": { body: {} },
  });
  at("/groups/4", page);
  await screen.findByText(/jon looks after it since Wed 10:00/);
  await userEvent.keyboard("t");
  await expect.poll(() => again.find((a) => a.path.endsWith("/take"))?.body).toEqual({ back: true });
});

test("alerts of another fault are parted, and the page goes to them; all of them cannot be", async () => {
  const asked = served(group(), {
    "POST /groups/4/part": { body: { id: 9 } },
    "GET /groups/9": { body: group({ id: 9, members: [alert(2)], alerts: 1 }) },
  });
  at("/groups/4", page);
  await userEvent.click(await screen.findByLabelText("Alert 1 is another fault"));
  await userEvent.click(screen.getByLabelText("Alert 2 is another fault"));
  expect(screen.getByText("Not the same fault: 2 alerts")).toHaveProperty("disabled", true);
  await userEvent.click(screen.getByLabelText("Alert 1 is another fault"));
  await userEvent.click(screen.getByText("Not the same fault: 1 alert"));
  await expect.poll(address).toBe("/groups/9");
  expect(asked.find((a) => a.path.endsWith("/part"))?.body).toEqual({ alerts: [2] });
});

test("a group that became part of another says so at its old address", async () => {
  served(group(), { "GET /groups/3": { body: group() } });
  at("/groups/3", page);
  expect(await screen.findByText(/Group 3 turned out to be part of this one/)).toBeTruthy();
});

test("while it is snoozed nothing is told, and one word ends that", async () => {
  const quiet = group({ snoozed_until: "2026-06-17T16:00:00Z" });
  const asked = served(quiet, {
    "POST /groups/4/snooze": { body: {} },
  });
  at("/groups/4", page);
  await screen.findByText(/Nothing is told of it until Wed 17 Jun 16:00/);
  await userEvent.click(screen.getByText("tell again"));
  await expect.poll(() => asked.find((a) => a.path.endsWith("/snooze"))?.body).toEqual({ seconds: 0 });
});

test("a group there is not says so, and nothing else", async () => {
  serve({ "GET /me": { body: { now: "2026-06-17T12:00:00Z" } } });
  at("/groups/77", page);
  await expect.poll(here, { timeout: 5000 }).toBe("There is no group 77.");
  expect(screen.queryByRole("button", { name: /Fault/ })).toBeNull();
});
