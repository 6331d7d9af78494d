import { fireEvent, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useEffect, useState } from "react";
import { expect, test } from "vitest";
import type { Kinship, Monitor, Settings } from "../../api/client";
import { differences } from "../../api/learning";
import { at } from "../../test/served";
import { Kept } from "./Kept";
import { methodName, SettingsForm } from "./SettingsForm";

const day = 86_400;
const settings = {
  method: "seasonal",
  direction: "both",
  warn_seconds: 365 * day,
  critical_seconds: 3650 * day,
  persist: 2,
  of: 3,
  min_effect: 0,
} as unknown as Settings;
const monitor = { name: "gates-volume", settings } as unknown as Monitor;

const last = { shown: settings };

/** The settings as the form has them. */
const now = () => last.shown;

function Form({ from = settings, period = 3600 }: { from?: Settings; period?: number }) {
  const [value, setValue] = useState(from);
  useEffect(() => {
    last.shown = value;
  });
  return <SettingsForm monitor={monitor} value={value} onChange={setValue} period={period} unit="rows" />;
}

test("nothing differs from today until something is changed; then today's is said beside it", async () => {
  at("/", <Form />);
  expect(screen.queryByText(/^today:/)).toBeNull();
  await userEvent.click(screen.getByText("low"));
  expect(now().direction).toBe("low");
  expect(screen.getByText("today: both")).toBeTruthy();
  await userEvent.click(screen.getByText("both"));
  expect(screen.queryByText(/^today:/)).toBeNull();
});

test("critical is never more frequent than a warning: one moves the other", () => {
  at("/", <Form />);
  const [warning, critical] = screen
    .getAllByRole("slider")
    .filter((s) => s.getAttribute("aria-label")?.startsWith("Return period"));
  for (let i = 0; i < 5; i++) fireEvent.keyDown(critical, { key: "ArrowLeft" });
  expect(now().critical_seconds).toBe(30 * day);
  expect(now().warn_seconds).toBe(30 * day);
  for (let i = 0; i < 3; i++) fireEvent.keyDown(warning, { key: "ArrowRight" });
  expect(now().warn_seconds).toBe(3 * 365 * day);
  expect(now().critical_seconds).toBe(3 * 365 * day);
});

test("m of n stays possible whichever of them is changed", () => {
  at("/", <Form />);
  fireEvent.change(screen.getByLabelText("m"), { target: { value: "5" } });
  expect([now().persist, now().of]).toEqual([5, 5]);
  fireEvent.change(screen.getByLabelText("n"), { target: { value: "2" } });
  expect([now().persist, now().of]).toEqual([5, 5]);
  fireEvent.change(screen.getByLabelText("n"), { target: { value: "" } });
  expect([now().persist, now().of]).toEqual([5, 5]);
});

test("shares are typed in percent and kept as shares, and what is empty is no bound", () => {
  at("/", <Form />);
  expect(screen.queryByText("yesterday")).toBeNull();
  fireEvent.change(screen.getByLabelText("Fall, percent"), { target: { value: "12.5" } });
  expect(now().fall).toBe(0.125);
  expect(screen.getByText("yesterday")).toBeTruthy();
  fireEvent.change(screen.getByLabelText("Fall, percent"), { target: { value: "" } });
  expect(now().fall).toBeUndefined();
  fireEvent.change(screen.getByLabelText("Lowest allowed"), { target: { value: "0" } });
  expect(now().lowest).toBe(0);
});

test("quiet hours are taken as they are left, with commas between them", async () => {
  at("/", <Form />);
  const field = screen.getByLabelText("Quiet hours");
  await userEvent.type(field, "mon-fri 22:00-06:00, sat,");
  expect(now().quiet).toBeUndefined();
  await userEvent.tab();
  expect(now().quiet).toEqual(["mon-fri 22:00-06:00", "sat"]);
  await userEvent.clear(field);
  await userEvent.tab();
  expect(now().quiet).toBeUndefined();
});

test("missing data rings as learned, never, or after so many periods", async () => {
  at("/", <Form period={day} />);
  const choice = screen.getByLabelText("Missing data");
  const pick = (text: string) =>
    userEvent.click([...choice.querySelectorAll("button")].find((b) => b.textContent === text)!);
  await pick("never");
  expect(now().missing).toBe(-1);
  expect(screen.queryByLabelText("Missing periods")).toBeNull();
  await pick("after");
  fireEvent.change(screen.getByLabelText("Missing periods"), { target: { value: "4" } });
  expect(now().missing).toBe(4);
  await pick("as learned");
  expect(now().missing).toBeUndefined();
});

test("arrival has loads and no values: nothing about values can be set", () => {
  at("/", <Form from={{ ...settings, method: "arrival" }} />);
  for (const name of ["Smallest effect", "m", "Lowest allowed"])
    expect(screen.queryByLabelText(name)).toBeNull();
  expect(screen.queryByText("Missing data alarms after")).toBeNull();
});

test("a plain baseline has neither silence nor a sustained shift, which lean on the learned one", () => {
  at("/", <Form from={{ ...settings, method: "rolling", window: 24 } as unknown as Settings} />);
  expect(screen.queryByText("Sustained small shift")).toBeNull();
  expect(screen.queryByLabelText("silence")).toBeNull();
  expect(screen.getByLabelText("stuck values")).toHaveProperty("checked", true);
});

test("every method has a name that people read; one of a newer service its own", () => {
  expect(methodName(settings)).toBe("level and shape, learned");
  expect(methodName({ ...settings, method: "of-tomorrow" } as unknown as Settings)).toBe("of-tomorrow");
});

test("what differs between two settings is named; what is 0 here and left out there does not", () => {
  expect(differences(settings, { ...settings, min_effect: undefined } as unknown as Settings)).toEqual([]);
  expect(differences(settings, { ...settings, warn_seconds: 30 * day, smooth_by: "mean" })).toEqual([
    "warn",
    "smooth by",
  ]);
});

const kin = (more: Partial<Kinship> = {}) => {
  const none = { slope: 0, worth: 0 };
  return {
    low: none,
    high: none,
    silence: none,
    missing: none,
    stuck: none,
    young: 0,
    ...more,
  };
};
const budget = (rules: object[], more: Partial<Kinship> = {}) =>
  ({
    name: "gates-volume",
    budget: { from: "2026-04-01T00:00:00Z", to: "2026-06-01T00:00:00Z", series: 6, rules, kin: kin(more) },
  }) as unknown as Monitor;

test("how the budget was kept is said by rule: what was stated, what rang, whose limit was raised", () => {
  at(
    "/",
    <Kept
      m={budget([
        { rule: "deviation", stated: 1.2, since: 0.3, rung: 3, told: 1, factor: 1.4 },
        { rule: "silence", stated: 0.1, since: 0, rung: 0, told: 0, factor: 1 },
        { rule: "stuck", stated: 0.1, since: 0, rung: 1, told: 0, factor: 1 },
      ])}
    />,
  );
  const rows = screen
    .getAllByRole("row")
    .slice(1)
    .map((r) => r.textContent);
  expect(rows).toEqual(["deviation1.54x 1.40", "stuck0.11own"]);
});

test("a monitor whose past was not tried yet says so, and one where nothing rang says that", () => {
  const { unmount } = at("/", <Kept m={{ name: "new" } as Monitor} />);
  expect(screen.getByText(/Not tried yet/)).toBeTruthy();
  unmount();
  at("/", <Kept m={budget([])} />);
  expect(screen.getByText(/over 6 series: none/)).toBeTruthy();
  expect(screen.queryByRole("table")).toBeNull();
});

test("what alike series tell of each other is said only where they are alike", () => {
  const { container, unmount } = at("/", <Kept m={budget([])} />);
  expect(container.textContent).not.toContain("is alike in its series");
  unmount();
  at("/", <Kept m={budget([], { low: { slope: 0.4, worth: 23.6 }, young: 0.31 })} />);
  expect(screen.getByText(/is alike in its series/).textContent).toContain("24 dips of its own");
  expect(screen.getByText(/limits 31 % higher/)).toBeTruthy();
});
