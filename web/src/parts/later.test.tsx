import { render, screen } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import { Fallen } from "./Fallen";
import { later } from "./later";

const Hello = ({ to }: { to: string }) => <p>hello {to}</p>;

test("until its code is here what is given is drawn, then the component with what it was given", async () => {
  let come: (code: typeof Hello) => void = () => undefined;
  const Late = later<{ to: string }>(() => new Promise((done) => (come = done)), <i>soon</i>);
  render(<Late to="the harbour" />);
  expect(screen.getByText("soon")).toBeDefined();
  come(Hello);
  expect(await screen.findByText("hello the harbour")).toBeDefined();
  expect(screen.queryByText("soon")).toBeNull();
});

test("code that was fetched before is drawn at once, and fetched once", async () => {
  const load = vi.fn(() => Promise.resolve(Hello));
  const Late = later<{ to: string }>(load, <i>soon</i>);
  await Late.fetch();
  render(<Late to="you" />);
  expect(screen.getByText("hello you")).toBeDefined();
  expect(screen.queryByText("soon")).toBeNull();
  await Late.fetch();
  expect(load).toHaveBeenCalledTimes(1);
});

test("code that does not come is said, and asked for again when somebody tries again", async () => {
  const quiet = vi.spyOn(console, "error").mockImplementation(() => undefined);
  const load = vi.fn(() => Promise.resolve(Hello)).mockRejectedValueOnce(new Error("the line is dead"));
  const Late = later<{ to: string }>(load);
  render(
    <Fallen>
      <Late to="again" />
    </Fallen>,
  );
  expect(await screen.findByText(/the line is dead/)).toBeDefined();
  screen.getByText("Try again").click();
  expect(await screen.findByText("hello again")).toBeDefined();
  quiet.mockRestore();
});
