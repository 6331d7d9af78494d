import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import { KeyRow } from "./keys";

test("a key acts wherever one is on the page, but not while something is typed", async () => {
  const act = vi.fn();
  render(
    <>
      <KeyRow keys={{ F: { does: "fault", act } }} />
      <input aria-label="note" />
    </>,
  );
  await userEvent.keyboard("f");
  expect(act).toHaveBeenCalledTimes(1);
  await userEvent.keyboard("{Control>}f{/Control}");
  await userEvent.type(screen.getByLabelText("note"), "fff");
  expect(act).toHaveBeenCalledTimes(1);
});

test("a box that was just ticked is no field, but the space bar is its own", async () => {
  const fault = vi.fn(),
    skip = vi.fn();
  render(
    <>
      <KeyRow keys={{ F: { does: "fault", act: fault }, " ": { does: "skip", act: skip } }} />
      <input type="checkbox" aria-label="mark" />
    </>,
  );
  const box = screen.getByLabelText<HTMLInputElement>("mark");
  await userEvent.click(box);
  await userEvent.keyboard("f");
  expect(fault).toHaveBeenCalledOnce();
  await userEvent.keyboard(" ");
  expect(skip).not.toHaveBeenCalled();
  expect(box.checked).toBe(false);
});

test("Enter on a link or a button is the link's or the button's own", async () => {
  const act = vi.fn();
  render(
    <>
      <KeyRow keys={{ Enter: { does: "open", act } }} />
      <a href="#there">there</a>
    </>,
  );
  screen.getByText("there").focus();
  await userEvent.keyboard("{Enter}");
  expect(act).not.toHaveBeenCalled();
  screen.getByText("there").blur();
  await userEvent.keyboard("{Enter}");
  expect(act).toHaveBeenCalledOnce();
});

test("what a key does is what it does now", async () => {
  const before = vi.fn(),
    after = vi.fn();
  const { rerender } = render(<KeyRow keys={{ J: { does: "down", act: before } }} />);
  rerender(<KeyRow keys={{ J: { does: "down", act: after } }} />);
  await userEvent.keyboard("j");
  expect(before).not.toHaveBeenCalled();
  expect(after).toHaveBeenCalledOnce();
});

test("the list of all keys opens by its own", async () => {
  render(<KeyRow keys={{ J: { does: "down", act: () => {} } }} />);
  await userEvent.keyboard("?");
  expect((await screen.findByRole("dialog")).textContent).toContain("down");
});
