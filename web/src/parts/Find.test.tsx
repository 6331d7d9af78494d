import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import { address, at, serve } from "../test/served";
import { Find } from "./Find";

const gate = {
  kind: "monitor",
  name: "gate-volume",
  dataset: "raw.gates",
  says: "Harbour data",
  id: 4,
  number: 0,
};
const said = {
  kind: "sentence",
  name: "gates",
  dataset: "raw.gates",
  says: "gate <*> jammed",
  id: 2,
  number: 7,
};

test("words find things of the service and pages, and Enter goes to the one that is chosen", async () => {
  const asked = serve({ "GET /find": { body: [gate, said] } });
  const close = vi.fn();
  at("/alerts", <Find close={close} />);
  await userEvent.keyboard("gate");
  expect(await screen.findByText("gate-volume")).toBeTruthy();
  await userEvent.keyboard("{ArrowDown}{Enter}");
  expect(address()).toBe("/logs/gates/7");
  expect(close).toHaveBeenCalledOnce();
  expect(asked.some((a) => a.path === "/find")).toBe(true);
});

test("where one went last stands first when nothing is typed", async () => {
  serve({ "GET /find": { body: [gate] } });
  const { unmount } = at("/", <Find close={() => {}} />);
  await userEvent.keyboard("gate");
  await userEvent.click(await screen.findByText("gate-volume"));
  unmount();
  at("/", <Find close={() => {}} />);
  expect(screen.getByText("Where you went last.")).toBeTruthy();
  await userEvent.keyboard("{Enter}");
  expect(address()).toBe("/monitors/gate-volume");
});

test("what can be done and what can be set is found by its words", async () => {
  serve({ "GET /find": { body: [] } });
  at("/", <Find close={() => {}} />);
  await userEvent.keyboard("quiet hours");
  expect(screen.getByText("setting")).toBeTruthy();
  await userEvent.clear(screen.getByRole("combobox"));
  await userEvent.keyboard("make a token{Enter}");
  expect(address()).toBe("/setup/people");
});

test("pages are found where the service does not answer, and that is said", async () => {
  serve({});
  at("/", <Find close={() => {}} />);
  await userEvent.keyboard("calendars");
  expect(await screen.findByText(/Only the console itself was looked through/)).toBeTruthy();
  expect(screen.getByText("Calendars")).toBeTruthy();
});
