import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import { Period } from "./MeasureTable";

test("choosing weeks or months asks for years of past, choosing hours for sixteen weeks", async () => {
  const [chosen, past] = [vi.fn(), vi.fn()];
  render(<Period value="3600" onChange={chosen} onPast={past} />);
  await userEvent.click(screen.getByText("month"));
  expect(chosen).toHaveBeenLastCalledWith("2592000");
  expect(past).toHaveBeenLastCalledWith("260");
  await userEvent.click(screen.getByText("week"));
  expect(chosen).toHaveBeenLastCalledWith("604800");
  expect(past).toHaveBeenLastCalledWith("260");
  await userEvent.click(screen.getByText("day"));
  expect(chosen).toHaveBeenLastCalledWith("86400");
  expect(past).toHaveBeenLastCalledWith("16");
});
