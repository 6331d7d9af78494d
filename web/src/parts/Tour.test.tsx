import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { address, at } from "../test/served";
import { Tour } from "./Tour";

test("a tour goes from place to place, back, and ends for good", async () => {
  const { unmount } = at("/?tour", <Tour />);
  await userEvent.click(screen.getByText("Next"));
  expect(address()).toBe("/datasets");
  await userEvent.click(screen.getByText("Next"));
  await userEvent.click(screen.getByText("Back"));
  expect(address()).toBe("/datasets");
  await userEvent.click(screen.getByText("end it"));
  expect(screen.queryByLabelText("Tour")).toBeNull();
  unmount();
  at("/alerts", <Tour />);
  expect(screen.queryByLabelText("Tour")).toBeNull();
});

test("a tour that was left goes on after the page is opened again", async () => {
  const { unmount } = at("/?tour", <Tour />);
  await userEvent.click(screen.getByText("Next"));
  unmount();
  at("/datasets", <Tour />);
  expect(screen.getByLabelText("Tour").textContent).toContain("2 of 8");
});
