import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, test } from "vitest";
import type { AlertDetail } from "../../api/client";
import { address, at, here, serve } from "../../test/served";
import { AlertPage } from "../AlertPage";

/** An alert about a file: it has no series and no chart. */
const alert = (more: Partial<AlertDetail> = {}) =>
  ({
    id: 5,
    label_id: 50,
    group_id: null,
    series_id: 0,
    period_seconds: 3600,
    sentence: "a file of landing.parcels cannot be read",
    figures: "",
    dataset: "landing.parcels",
    source: "landing",
    job: "",
    sla: "",
    comparison: "",
    monitor: "",
    segment: "",
    measure: "",
    owner: "harbour data",
    verdict: "",
    severity: "warning",
    cause: "file",
    close_reason: "",
    since: "2026-06-17T08:00:00Z",
    raised_at: "2026-06-17T09:00:00Z",
    closed_at: null,
    zone: "UTC",
    disputed: false,
    held: "",
    held_why: "",
    returns: 0,
    returned_at: null,
    strength: 1,
    peak: 0,
    return_period_seconds: 0,
    labels: [],
    alike: [],
    group: [],
    ...more,
  }) as unknown as AlertDetail;

const served = (a: AlertDetail, more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /me": { body: { name: "mara", role: "editor", now: "2026-06-17T12:00:00Z" } },
    "GET /alerts": { body: { alerts: [{ ...a, id: 4 }, a, { ...a, id: 6 }] } },
    [`GET /alerts/${a.id}`]: { body: a },
    "POST /labels": { body: {} },
    ...more,
  });

const page = (
  <Routes>
    <Route path="/alerts/:id" element={<AlertPage />} />
  </Routes>
);
const labels = (asked: ReturnType<typeof serve>) =>
  asked.filter((a) => a.path === "/labels").map((a) => a.body);

test("what is wrong and since when is the page's sentence; what it is about stands below", async () => {
  served(alert());
  at("/alerts/5", page);
  await expect.poll(here).toBe("a file of landing.parcels cannot be read, since Wed 17 Jun 08:00.");
  const facts = [...document.querySelectorAll("dl > div")].map((d) => d.textContent);
  expect(facts).toContain("What it isa bad file");
  expect(facts).toContain("Sourcelanding");
  expect(facts).toContain("Ownerharbour data");
  expect(facts.some((f) => f?.startsWith("As unusual"))).toBe(false);
});

test("a letter answers, with the note that was typed, as the alert was seen", async () => {
  const asked = served(alert());
  at("/alerts/5", page);
  await userEvent.type(await screen.findByLabelText("Cause or note"), "disk full");
  expect(labels(asked)).toEqual([]);
  await userEvent.click(screen.getByRole("button", { name: /Fault/ }));
  await expect
    .poll(() => labels(asked))
    .toEqual([{ alerts: [5], verdict: "fault", note: "disk full", seen: { 5: 50 } }]);
  await expect.poll(() => screen.getByLabelText("Cause or note")).toHaveProperty("value", "");
});

test("a label is taken back by Z, and only where there is one", async () => {
  const asked = served(alert({ verdict: "noise" }));
  at("/alerts/5", page);
  expect((await screen.findByText("take back")).textContent).toContain("take back");
  await userEvent.keyboard("z");
  await expect.poll(() => labels(asked)[0]).toMatchObject({ alerts: [5], verdict: "" });
});

test("somebody else's answer since is not overwritten in silence", async () => {
  served(alert(), {
    "POST /labels": {
      status: 409,
      body: { detail: "alert 5 was labelled planned by jon since it was read" },
    },
  });
  at("/alerts/5", page);
  await userEvent.click(await screen.findByRole("button", { name: /Noise/ }));
  expect((await screen.findByRole("alert")).textContent).toContain("by jon since it was read");
});

test("J and K go to the neighbours in the list of what is open", async () => {
  served(alert(), {
    "GET /alerts/6": { body: alert({ id: 6 }) },
    "GET /alerts/4": { body: alert({ id: 4 }) },
  });
  at("/alerts/5", page);
  await screen.findByText("next, 2 of 3");
  await userEvent.keyboard("j");
  await expect.poll(address).toBe("/alerts/6");
  await screen.findByText("next, 3 of 3");
  await userEvent.keyboard("j");
  expect(address()).toBe("/alerts/6");
  await userEvent.keyboard("k");
  await expect.poll(address).toBe("/alerts/5");
});

test("what was found out is offered as the note, by one key", async () => {
  const found = {
    line: "all of it is in Gullstone",
    lineage: { first: "raw.manifests", columns: [], hit: [], links: [], nodes: [], runs: [] },
    before: [],
    listings: [],
    missing: { contribution: "the warehouse cannot be reached" },
  };
  served(alert(), { "GET /alerts/5/why": { body: found } });
  at("/alerts/5", page);
  const field = await screen.findByLabelText("Cause or note");
  await expect.poll(() => field.getAttribute("placeholder")).toContain("O takes: all of it is in Gullstone");
  expect(screen.getByText("Not known: the warehouse cannot be reached.")).toBeTruthy();
  await userEvent.keyboard("o");
  expect(field).toHaveProperty("value", "all of it is in Gullstone; began at raw.manifests");
});

test("what people do not agree on says so, and what the filter holds back says why", async () => {
  served(alert({ disputed: true, held: "held", held_why: "like 4 that were called noise" }));
  at("/alerts/5", page);
  expect(await screen.findByText(/do not agree on this one/)).toBeTruthy();
  expect(screen.getByText(/The filter holds it back/).parentElement?.textContent).toContain(
    "like 4 that were",
  );
});

test("in shadow the filter only says what it would do", async () => {
  served(alert({ held: "shadow", held_why: "like 4" }));
  at("/alerts/5", page);
  expect(await screen.findByText(/would hold it back/)).toBeTruthy();
});

test("an alert there is not says so", async () => {
  serve({ "GET /me": { body: { now: "2026-06-17T12:00:00Z" } } });
  at("/alerts/99", page);
  await expect.poll(here).toBe("There is no alert 99.");
});
