import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, test } from "vitest";
import type { PastQuestion } from "../../api/client";
import { at, here, serve } from "../../test/served";
import { PastPage } from "./PastPage";

const question = (id: number, more: Partial<PastQuestion> = {}) =>
  ({
    series_id: id,
    series: [id],
    segment: `gate ${id}`,
    segments: [`gate ${id}`],
    rule: "deviation",
    direction: "low",
    from: "2026-05-01T00:00:00Z",
    to: "2026-05-01T12:00:00Z",
    strength: 1.84,
    gain: 0.31,
    sentence: `gate ${id} was low for 12 h. As a fault you would hear of losses from 25 % on, not 40 %.`,
    ...more,
  }) as unknown as PastQuestion;

function open(questions: PastQuestion[], more: Parameters<typeof serve>[0] = {}) {
  const asked = serve({
    "GET /me": { body: { now: "2026-06-17T09:00:00Z" } },
    "GET /monitors/gates/questions": {
      body: { questions, zone: "UTC", sentence: "Nothing of the past moves the limits by much." },
    },
    "POST /monitors/gates/answers": { body: {} },
    ...more,
  });
  at(
    "/monitors/gates/past",
    <Routes>
      <Route path="/monitors/:name/past" element={<PastPage />} />
    </Routes>,
  );
  return asked;
}

test("the first question says what was, and what its answer changes", async () => {
  open([question(1), question(2)]);
  await expect.poll(here).toBe("gate 1 was low for 12 h.");
  expect(screen.getByText(/you would hear of losses from 25 % on, not 40 %/)).toBeTruthy();
  expect(screen.getByText(/1.8 times the limit/)).toBeTruthy();
  expect(screen.getByText("1 more")).toBeTruthy();
  expect(screen.getByText("gate 2, deviation low")).toBeTruthy();
  expect(screen.getByText("31 %")).toBeTruthy();
});

test.each([
  ["f", "fault", "fault"],
  ["n", "noise", "ordinary"],
  ["p", "planned", "planned"],
])("the key %s answers %s, and the next is asked", async (key, verdict, says) => {
  const asked = open([question(1, { series: [1, 4] }), question(2)]);
  await expect.poll(here).toBe("gate 1 was low for 12 h.");
  await userEvent.keyboard(key);
  await expect.poll(here).toBe("gate 2 was low for 12 h.");
  expect(asked.find((a) => a.method === "POST")?.body).toEqual({
    series: [1, 4],
    from: "2026-05-01T00:00:00Z",
    to: "2026-05-01T12:00:00Z",
    verdict,
  });
  expect(screen.getByText("1 so far")).toBeTruthy();
  expect(screen.getAllByText(new RegExp(`^${says}$`, "i")).length).toBeGreaterThan(0);
});

test("a question can be left open and looked at again; skipping answers nothing", async () => {
  const asked = open([question(1)]);
  await expect.poll(here).toBe("gate 1 was low for 12 h.");
  await userEvent.keyboard(" ");
  await expect.poll(here).toBe("Nothing of the past moves the limits by much.");
  await userEvent.click(screen.getByText("Look again at the 1 skipped"));
  expect(here()).toBe("gate 1 was low for 12 h.");
  expect(asked.filter((a) => a.method === "POST")).toEqual([]);
});

test("when all are answered it can be asked again with what was answered", async () => {
  const asked = open([question(1)]);
  await expect.poll(here).toBe("gate 1 was low for 12 h.");
  await userEvent.click(screen.getByText("it did happen"));
  await userEvent.click(await screen.findByText("Ask again with what was answered"));
  await expect
    .poll(() => asked.filter((a) => a.path === "/monitors/gates/questions").length)
    .toBeGreaterThan(1);
});

test("an answer that was refused is said, and the question stays", async () => {
  open([question(1)], {
    "POST /monitors/gates/answers": { status: 409, body: { detail: "somebody called it planned meanwhile" } },
  });
  await expect.poll(here).toBe("gate 1 was low for 12 h.");
  await userEvent.keyboard("f");
  expect((await screen.findByRole("alert")).textContent).toBe("somebody called it planned meanwhile");
  expect(here()).toBe("gate 1 was low for 12 h.");
});

test("one answer for several segments names them, the first five", async () => {
  const names = ["gate 1", "a", "b", "c", "d", "e", "f"];
  open([question(1, { segments: names })]);
  expect(await screen.findByText(/Answered together with 6 other segments/)).toBeTruthy();
  expect(screen.getByText(/: a, b, c, d, e …/)).toBeTruthy();
});

test("where the past asks nothing, the way back is shown", async () => {
  open([]);
  await expect.poll(here).toBe("Nothing of the past moves the limits by much.");
  expect(screen.getByText("Back to the monitor").getAttribute("href")).toBe("/monitors/gates");
  expect(screen.getByText("0 more")).toBeTruthy();
});
