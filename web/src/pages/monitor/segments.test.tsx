import { fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { expect, test } from "vitest";
import type { Settings } from "../../api/client";
import { differs, Segments } from "./Segments";

type Own = NonNullable<Settings["segments"]>[number];

const day = 86_400;
const today = { direction: "both", warn_seconds: 365 * day } as unknown as Settings;

/** The list as a page holds it: what was changed last is in `now`. */
function open(known: string[], segments?: Own[], was: Settings = today) {
  const now: { settings: Settings } = { settings: { ...today, segments } };
  function Held() {
    const [settings, set] = useState(now.settings);
    now.settings = settings;
    return <Segments settings={settings} onChange={set} known={known} unit="rows" today={was} />;
  }
  render(<Held />);
  return now;
}

test.each<[string, Partial<Own>]>([
  ["as the monitor", {}],
  ["muted", { muted: true }],
  ["once in 30 d, low", { warn_seconds: 30 * day, direction: "low" }],
  ["2 of 3", { persist: 2, of: 3 }],
  ["2 of 2", { persist: 2 }],
  ["at least 0, at most 1,200", { lowest: 0, highest: 1200 }],
  ["falls by 30 %, rises by 150 %", { fall: 0.3, rise: 1.5 }],
  ["effect of 25, owner mara", { min_effect: 25, owner: "mara" }],
])("what differs is said: %s", (says, own) => {
  expect(differs({ segment: "Fennick", ...own })).toBe(says);
});

test("a metric without segments has none to set", () => {
  const { container } = render(
    <Segments settings={today} onChange={() => {}} known={["whole"]} unit="rows" today={today} />,
  );
  expect(container.textContent).toBe("");
});

test("a segment is added, opened and set; only what differs is kept", async () => {
  const now = open(["Fennick", "Northmole"]);
  expect(screen.getByText("all alike")).toBeTruthy();
  await userEvent.type(screen.getByLabelText("Segment or pattern"), "  Fennick {enter}");
  expect(now.settings.segments).toEqual([{ segment: "Fennick" }]);
  expect(screen.getByText("new")).toBeTruthy();
  await userEvent.click(screen.getByRole("checkbox", { name: /muted/ }));
  fireEvent.change(screen.getByLabelText("Lowest of the segment"), { target: { value: "40" } });
  await userEvent.click(screen.getByRole("radio", { name: "low" }));
  expect(now.settings.segments).toEqual([{ segment: "Fennick", muted: true, lowest: 40, direction: "low" }]);
  await userEvent.click(screen.getByRole("checkbox", { name: /muted/ }));
  await userEvent.click(screen.getByRole("radio", { name: "the monitor's" }));
  expect(JSON.parse(JSON.stringify(now.settings.segments))).toEqual([{ segment: "Fennick", lowest: 40 }]);
});

test("one that is there already is opened and not added twice", async () => {
  const now = open(["Fennick", "Northmole"], [{ segment: "Fennick", muted: true }]);
  await userEvent.type(screen.getByLabelText("Segment or pattern"), "Fennick");
  await userEvent.click(screen.getByRole("button", { name: "Add" }));
  expect(now.settings.segments).toHaveLength(1);
  expect(screen.getByRole("button", { name: "Fennick" }).getAttribute("aria-expanded")).toBe("true");
});

test("without a name nothing can be added", () => {
  open(["Fennick", "Northmole"]);
  expect(screen.getByRole("button", { name: "Add" }).hasAttribute("disabled")).toBe(true);
  fireEvent.keyDown(screen.getByLabelText("Segment or pattern"), { key: "Enter" });
  expect(screen.getByText("all alike")).toBeTruthy();
});

test("what differs from today is marked as changed, and what is as it was is not", () => {
  const was = { ...today, segments: [{ segment: "a", muted: true }, { segment: "b" }] } as Settings;
  open(
    ["a", "b"],
    [
      { segment: "a", muted: true },
      { segment: "b", note: "as on Mondays" },
    ],
    was,
  );
  expect(screen.getAllByText("changed")).toHaveLength(1);
  expect(screen.getByText("“as on Mondays”")).toBeTruthy();
  expect(screen.getByText("2 of their own")).toBeTruthy();
});

test("the last one that is taken away leaves no empty list behind", async () => {
  const now = open(["a", "b"], [{ segment: "a" }]);
  await userEvent.click(screen.getByText("take away"));
  expect(now.settings.segments).toBeUndefined();
});

test("a return period that is none of the usual is kept and can be put back", async () => {
  const now = open(["a", "b"], [{ segment: "a", warn_seconds: 45 * day }]);
  await userEvent.click(screen.getByRole("button", { name: "a" }));
  const choice = screen.getByLabelText("Return period of the segment");
  expect(choice.textContent).toContain("45 d");
  await userEvent.click(choice);
  await userEvent.click(await screen.findByRole("option", { name: "the monitor's" }));
  expect(JSON.parse(JSON.stringify(now.settings.segments))).toEqual([{ segment: "a" }]);
});

test("owner and reason are kept when the field is left, and gone when it is emptied", async () => {
  const now = open(["a", "b"], [{ segment: "a", owner: "mara" }]);
  await userEvent.click(screen.getByRole("button", { name: "a" }));
  const owner = screen.getByLabelText("Owner of the segment");
  await userEvent.clear(owner);
  await userEvent.type(screen.getByLabelText("Why"), "quiet in winter");
  await userEvent.tab();
  expect(JSON.parse(JSON.stringify(now.settings.segments))).toEqual([
    { segment: "a", note: "quiet in winter" },
  ]);
});
