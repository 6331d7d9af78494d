import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { Fallen } from "./Fallen";

beforeEach(() => void vi.spyOn(console, "error").mockImplementation(() => {}));
afterEach(() => vi.restoreAllMocks());

test("what cannot be drawn is held to its place, said, and tried again", async () => {
  let broken = true;
  const Chart = () => {
    if (broken) throw new Error("no such figure");
    return <p>a chart</p>;
  };
  render(
    <>
      <Fallen what="Volume">
        <Chart />
      </Fallen>
      <p>the rest</p>
    </>,
  );
  expect(screen.getByRole("alert").textContent).toContain("Volume could not be drawn: no such figure.");
  expect(screen.getByText("the rest")).toBeTruthy();
  broken = false;
  await userEvent.click(screen.getByText("Try again"));
  expect(screen.getByText("a chart")).toBeTruthy();
});

test("a page behind which the service was renewed says so", () => {
  const Page = () => {
    throw new Error("Failed to fetch dynamically imported module: /assets/x.js");
  };
  render(
    <Fallen>
      <Page />
    </Fallen>,
  );
  expect(screen.getByRole("alert").textContent).toContain("The service was renewed");
  expect(screen.getByText("Load it anew")).toBeTruthy();
});
