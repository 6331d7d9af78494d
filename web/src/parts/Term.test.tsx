import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { Term, terms } from "./Term";

test("the focus on a word of ours says what it is, and Esc takes it away", async () => {
  render(<Term is="rarity">how rare</Term>);
  expect(screen.queryByRole("tooltip")).toBeNull();
  await userEvent.tab();
  expect((await screen.findByRole("tooltip")).textContent).toBe(terms.rarity);
  await userEvent.keyboard("{Escape}");
  expect(screen.queryByRole("tooltip")).toBeNull();
});
