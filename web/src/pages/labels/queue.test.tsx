import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Alert } from "../../api/client";
import { at, here, serve } from "../../test/served";
import { LabelsPage } from "./LabelsPage";

const alert = (id: number, more: Partial<Alert> = {}) =>
  ({
    id,
    label_id: 0,
    series_id: id,
    sentence: `gate ${id} was low`,
    dataset: "raw.gate_events",
    segment: `gate ${id}`,
    monitor: "gates-volume",
    measure: "rows",
    severity: "warning",
    raised_at: "2026-06-17T09:00:00Z",
    since: "2026-06-17T08:00:00Z",
    closed_at: null,
    zone: "UTC",
    period_seconds: 3600,
    return_period_seconds: 86_400 * 60,
    ...more,
  }) as unknown as Alert;

const question = (id: number, chance: number, alike: Alert[] = []) => ({ alert: alert(id), chance, alike });

const served = (questions: unknown[], more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /me": { body: { now: "2026-06-17T12:00:00Z" } },
    "GET /label-queue": {
      body: {
        questions,
        waiting: questions.length,
        answered: 3,
        enough: 30,
        sentence: "27 more and it can be tuned.",
      },
    },
    "GET /monitors": { body: [] },
    "POST /labels": { body: {} },
    ...more,
  });

const said = (asked: ReturnType<typeof serve>) =>
  asked.filter((a) => a.path === "/labels").map((a) => a.body as { alerts: number[]; verdict: string });

test("the alert that would teach most is asked first, with how sure the filter is of it", async () => {
  served([question(1, 0.5), question(2, 0.9)]);
  at("/labels", <LabelsPage />);
  await expect.poll(here).toBe("gate 1 was low.");
  expect(screen.getByText(/is undecided/).textContent).toContain("0.50 for a fault");
  expect(screen.getByText("90 %")).toBeTruthy();
  expect(screen.getByRole("progressbar").getAttribute("aria-valuenow")).toBe("3");
});

test("one key answers and brings the next; Z takes the answer back and asks again", async () => {
  const asked = served([question(1, 0.5), question(2, 0.9)]);
  at("/labels", <LabelsPage />);
  await expect.poll(here).toBe("gate 1 was low.");
  await userEvent.keyboard("n");
  await expect.poll(here).toBe("gate 2 was low.");
  await userEvent.keyboard("z");
  await expect.poll(here).toBe("gate 1 was low.");
  expect(said(asked).map((b) => [b.alerts, b.verdict])).toEqual([
    [[1], "noise"],
    [[1], ""],
  ]);
});

test("those of the same disturbance are answered with it, or it alone", async () => {
  const asked = served([question(1, 0.5, [alert(7), alert(8)]), question(2, 0.5, [alert(9)])]);
  at("/labels", <LabelsPage />);
  await screen.findByText(/answer 2 others with it/);
  await userEvent.keyboard("f");
  await expect.poll(here).toBe("gate 2 was low.");
  await userEvent.keyboard("a");
  await userEvent.keyboard("p");
  await expect.poll(() => said(asked).length).toBe(2);
  expect(said(asked).map((b) => [b.alerts, b.verdict])).toEqual([
    [[1, 7, 8], "fault"],
    [[2], "planned"],
  ]);
});

test("what was answered with another is not asked again", async () => {
  served([question(1, 0.5, [alert(2)]), question(2, 0.5), question(3, 0.5)]);
  at("/labels", <LabelsPage />);
  await expect.poll(here).toBe("gate 1 was low.");
  await userEvent.keyboard("f");
  await expect.poll(here).toBe("gate 3 was low.");
});

test("the space bar skips, and what was skipped can be looked at again", async () => {
  const asked = served([question(1, 0.5)]);
  at("/labels", <LabelsPage />);
  await expect.poll(here).toBe("gate 1 was low.");
  await userEvent.keyboard(" ");
  await expect.poll(here).toBe("That is all for this round.");
  await userEvent.click(screen.getByText("Look again at the 1 skipped"));
  await expect.poll(here).toBe("gate 1 was low.");
  expect(said(asked)).toEqual([]);
});

test("keys rest while a note is typed, and the note goes with the answer", async () => {
  const asked = served([question(1, 0.5)]);
  at("/labels", <LabelsPage />);
  await userEvent.type(await screen.findByLabelText("Cause or note"), "fan of noise");
  expect(said(asked)).toEqual([]);
  await userEvent.click(screen.getByRole("button", { name: /Noise/ }));
  await expect
    .poll(() => said(asked)[0])
    .toMatchObject({ alerts: [1], verdict: "noise", note: "fan of noise" });
});

test("an answer that is refused stays a question, and says why", async () => {
  served([question(1, 0.5), question(2, 0.5)], {
    "POST /labels": { status: 409, body: { detail: "alert 1 was labelled fault by jon since it was read" } },
  });
  at("/labels", <LabelsPage />);
  await expect.poll(here).toBe("gate 1 was low.");
  await userEvent.keyboard("n");
  expect((await screen.findByRole("alert")).textContent).toContain("was labelled fault by jon");
  expect(here()).toBe("gate 1 was low.");
});

test("an empty queue leads to what the labels have done", async () => {
  served([]);
  at("/labels", <LabelsPage />);
  await expect.poll(here).toBe("Every alert is answered.");
  expect(screen.getByText(/What the labels have done/).getAttribute("href")).toBe("/scorecard");
});
