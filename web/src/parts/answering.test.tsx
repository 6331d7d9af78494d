import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import type { Verdict } from "../api/client";
import { at, serve } from "../test/served";
import { AnswerBar } from "./AnswerBar";
import { Mark, type State, stateOf } from "./Mark";
import { useVerdicts } from "./Verdicts";

test("the three answers are asked for in one bar, and the one given is marked as such", async () => {
  const said: Verdict[] = [];
  at(
    "/alerts/3",
    <AnswerBar asks="What was it?" given={(v) => v === "noise"} busy={false} answer={(v) => said.push(v)}>
      <a href="/x">why</a>
    </AnswerBar>,
  );
  const buttons = screen.getAllByRole("button");
  expect(buttons.map((b) => b.textContent)).toEqual(["FFault", "NNoise", "PPlanned"]);
  expect(buttons.map((b) => b.getAttribute("aria-pressed"))).toEqual(["false", "true", "false"]);
  for (const b of buttons) await userEvent.click(b);
  expect(said).toEqual(["fault", "noise", "planned"]);
  expect(screen.getByText("why")).toBeTruthy();
});

test("while an answer is being kept no second one can be given", async () => {
  const answer = vi.fn();
  at(
    "/alerts/3",
    <AnswerBar asks="What was it?" given={() => false} busy answer={answer}>
      {null}
    </AnswerBar>,
  );
  for (const b of screen.getAllByRole("button")) await userEvent.click(b);
  expect(answer).not.toHaveBeenCalled();
});

function Stretch({ from, to }: { from: string; to: string }) {
  const { buttons, came } = useVerdicts(5, from, to, "gate 3 sent nothing");
  return (
    <>
      {buttons}
      {came}
    </>
  );
}

test("a verdict on a stretch is sent with its times and note, and what came of it is said", async () => {
  const asked = serve({ "POST /stretches": { body: { id: 1, incident: "VF-101" } } });
  at("/series/5", <Stretch from="2026-06-18T09:00" to="2026-06-18T15:00" />);
  await userEvent.click(screen.getByText("It was a fault"));
  expect((await screen.findByRole("status")).textContent).toBe("Kept as incident VF-101.");
  expect(asked).toHaveLength(1);
  expect(asked[0].body).toMatchObject({
    series_id: 5,
    verdict: "fault",
    note: "gate 3 sent nothing",
    from: new Date("2026-06-18T09:00").toISOString(),
    to: new Date("2026-06-18T15:00").toISOString(),
  });
});

test("a stretch that ends before it begins can be given no verdict", () => {
  at("/series/5", <Stretch from="2026-06-18T15:00" to="2026-06-18T09:00" />);
  for (const b of screen.getAllByRole("button")) expect(b).toHaveProperty("disabled", true);
});

test("why a verdict was refused is said beside it", async () => {
  serve({ "POST /stretches": { status: 422, body: { detail: "from: this lies before the first sample" } } });
  at("/series/5", <Stretch from="2026-06-18T09:00" to="2026-06-18T15:00" />);
  await userEvent.click(screen.getByText("It was noise"));
  expect((await screen.findByRole("alert")).textContent).toContain("before the first sample");
});

test("an alert's mark is its label once it has one, else how it stands", () => {
  const alert = { verdict: "", severity: "critical", closed_at: null, cause: "deviation" };
  expect(stateOf(alert)).toBe("critical");
  expect(stateOf({ ...alert, cause: "overdue" })).toBe("overdue");
  expect(stateOf({ ...alert, closed_at: "2026-06-01T00:00:00Z" })).toBe("unlabelled");
  expect(stateOf({ ...alert, closed_at: "2026-06-01T00:00:00Z", verdict: "noise" })).toBe("noise");
});

test("a state is told by shape and word, not by colour alone; one that is not known has a mark too", () => {
  const { container } = at("/", <Mark state="overdue" />);
  expect(container.textContent).toBe("overdue");
  expect(container.querySelector("svg")?.getAttribute("aria-hidden")).toBe("true");
  at("/", <Mark state={"of a newer service" as State} />);
  expect(screen.getByText("of a newer service")).toBeTruthy();
});
