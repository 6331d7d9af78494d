import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import { Sure, Typed } from "./Ask";

test("what cannot be undone is asked first, and left where it is by Esc or by saying so", async () => {
  const act = vi.fn();
  render(
    <Sure asks="Remove parcels?" says="Its past goes." does="Remove it" act={act}>
      remove
    </Sure>,
  );
  await userEvent.click(screen.getByText("remove"));
  expect(screen.getByRole("alertdialog").textContent).toContain("Its past goes.");
  await userEvent.keyboard("{Escape}");
  await userEvent.click(screen.getByText("remove"));
  await userEvent.click(screen.getByText("Leave it"));
  expect(act).not.toHaveBeenCalled();
  await userEvent.click(screen.getByText("remove"));
  await userEvent.click(screen.getByText("Remove it"));
  expect(act).toHaveBeenCalledOnce();
});

test("a line of text is given by Enter, and the same as before is none", async () => {
  const act = vi.fn();
  render(
    <Typed asks="Rename" label="Name" given="volume" does="Rename it" act={act}>
      rename
    </Typed>,
  );
  await userEvent.click(screen.getByText("rename"));
  await userEvent.keyboard("{Enter}");
  expect(act).not.toHaveBeenCalled();
  await userEvent.click(screen.getByText("rename"));
  await userEvent.clear(screen.getByLabelText("Name"));
  await userEvent.type(screen.getByLabelText("Name"), "rows{Enter}");
  expect(act).toHaveBeenCalledWith("rows");
});
