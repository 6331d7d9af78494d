import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { address, at, serve } from "../../test/served";
import { OfThePast } from "./OfThePast";

const monitor = (name: string, created_at: string, method = "seasonal") => ({
  name,
  created_at,
  learned_at: created_at,
  paused: false,
  settings: { method },
});
const question = { series_id: 3, from: "2026-05-01T00:00:00Z", sentence: "Fennick was low for 12 h." };

test("the newest monitor whose past has something to ask asks it, and leads there", async () => {
  const asked = serve({
    "GET /monitors": {
      body: [
        monitor("old", "2026-01-01T00:00:00Z"),
        monitor("loads", "2026-04-01T00:00:00Z", "arrival"),
        monitor("quiet", "2026-03-01T00:00:00Z"),
        monitor("gates", "2026-02-01T00:00:00Z"),
      ],
    },
    "GET /monitors/quiet/questions": { body: { questions: [] } },
    "GET /monitors/gates/questions": { body: { questions: [question, question] } },
  });
  at("/labels", <OfThePast />);
  expect(await screen.findByText("Fennick was low for 12 h.")).toBeTruthy();
  await userEvent.click(screen.getByText("Answer 2 questions about it"));
  expect(address()).toBe("/monitors/gates/past");
  expect(asked.filter((a) => a.path.endsWith("/questions")).map((a) => a.path)).toEqual([
    "/monitors/quiet/questions",
    "/monitors/gates/questions",
  ]);
});

test("where no past has anything to ask nothing is said", async () => {
  const asked = serve({
    "GET /monitors": { body: [monitor("quiet", "2026-03-01T00:00:00Z")] },
    "GET /monitors/quiet/questions": { body: { questions: [] } },
  });
  const { container } = at("/labels", <OfThePast />);
  await expect.poll(() => asked.length).toBe(2);
  expect(container.textContent).toBe("");
});
