import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Detectable, Monitor, Rehearsal, SeriesState } from "../../api/client";
import { at, rows, serve } from "../../test/served";
import { Budget, Changes, Compared, LossChart } from "./Compared";
import { Kept } from "./Kept";
import { NotJudged } from "./NotJudged";
import { Versions } from "./Versions";

const day = 86_400;
const figure = (estimate: number | null, low: number | null, high: number | null, n = 10) => ({
  estimate,
  low,
  high,
  k: 0,
  n,
});

const card = (more: object = {}) => ({
  precision_catalogue: figure(0.8, 0.6, 0.9),
  recall: figure(0.7, 0.5, 0.85),
  delay_seconds: figure(7200, 3600, 9000),
  stated_seconds: 90 * day,
  achieved: { seconds: 60 * day, shortest_seconds: 20 * day, longest_seconds: 400 * day },
  ...more,
});

const rehearsal = (today: object, proposed: object, more: object = {}) =>
  ({
    from: "2026-04-18T00:00:00Z",
    to: "2026-06-17T00:00:00Z",
    zone: "UTC",
    today: { card: card(today) },
    proposed: { card: card(proposed) },
    gone: [],
    new: [],
    stays: 3,
    ...more,
  }) as unknown as Rehearsal;

test("a difference says whether it may be chance", () => {
  const proposed = {
    precision_catalogue: figure(0.99, 0.95, 1),
    recall: figure(0.6, 0.4, 0.8),
    delay_seconds: figure(3600, 1800, 5400, 4),
  };
  at("/", <Compared r={rehearsal({}, proposed)} />);
  expect(rows().map((r) => [r[0], ...r.slice(2)])).toEqual([
    ["Precision", "0.800.60 to 0.90", "0.990.95 to 1.00", "+0.19intervals apart"],
    ["Recall", "0.700.50 to 0.85", "0.600.40 to 0.80", "−0.10may be chance"],
    ["Delay, median", "2 h1 h to 2 h 30 min", "1 h30 min to 90 min", "−1 hof too few to say"],
  ]);
});

test("what is the same differs in nothing, and what is not known is no figure", () => {
  at("/", <Compared r={rehearsal({ recall: figure(null, null, null) }, {})} />);
  expect(rows().map((r) => r[4])).toEqual(["0.00none", "–", "0none"]);
  expect(rows()[1][2]).toBe("–");
});

test("what is stated stands beside what was achieved, in colour where it is more beyond chance", () => {
  const loud = { achieved: { seconds: 5 * day, shortest_seconds: 3 * day, longest_seconds: 9 * day } };
  at("/", <Budget r={rehearsal(loud, {})} />);
  expect(rows()).toEqual([
    ["today", "1 in 90 d", "1 in 5 d"],
    ["proposed", "1 in 90 d", "1 in 60 d"],
  ]);
  expect(screen.getByText("1 in 5 d").className).toContain("text-verm");
  expect(screen.getByText("1 in 60 d").className).not.toContain("text-verm");
  expect(screen.getByText(/60 d seen, one disturbance counted once/).textContent).toContain(
    "1 in 20 d to 1.1 y is possible.",
  );
});

test("what would go and what would come is listed, twelve of them, and the rest counted", () => {
  const told = (outcome: string, more: object = {}) => ({
    outcome,
    since: "2026-05-01T09:00:00Z",
    segment: "Fennick",
    rule: "deviation",
    incident: "",
    ...more,
  });
  const many = {
    gone: Array.from({ length: 13 }, () => told("false")),
    new: [told("hit", { incident: "I-4" })],
  };
  const { unmount } = at("/", <Changes r={rehearsal({}, {}, many)} />);
  expect(screen.getAllByText("gone")).toHaveLength(12);
  expect(screen.getByText("and 2 more")).toBeTruthy();
  expect(screen.getByText("3 alerts told as today.")).toBeTruthy();
  unmount();
  at("/", <Changes r={rehearsal({}, {}, { new: many.new })} />);
  expect(screen.getByText("new").parentElement!.textContent).toContain(
    "hitFri 1 May 09:00Fennick deviation, I-4",
  );
});

test("the loss that shows is drawn for both sides on one scale, and said where there is none", () => {
  const losses = (at: number) =>
    [3600, 86_400].map((seconds) => ({
      seconds,
      always: at,
      sometimes: at / 2,
    })) as unknown as Detectable["losses"];
  const { container, rerender } = at(
    "/",
    <LossChart today={losses(1)} proposed={losses(0.5)} sentence="Half." />,
  );
  const [today, proposed] = [...container.querySelectorAll("path")].map((p) => p.getAttribute("d")!);
  const heights = (d: string) => [...d.matchAll(/ ([\d.]+)/g)].map((m) => Number(m[1]));
  expect(heights(today)).toEqual([8, 8]); // all of it, at the top
  expect(heights(proposed)).toEqual([56, 56]);
  expect(screen.getByRole("img", { name: "Half." })).toBeTruthy();
  rerender(<LossChart proposed={[]} sentence="A step says nothing of losses." />);
  expect(container.textContent).toBe("A step says nothing of losses.");
});

const monitor = (more: object = {}) =>
  ({ name: "gates", version: 3, always_tell: false, budget: null, ...more }) as unknown as Monitor;

test("each version says what it changed, who by and why, and can be taken back", async () => {
  const settings = (warn: number) => ({
    method: "seasonal",
    direction: "both",
    warn_seconds: warn,
    persist: 1,
    of: 1,
  });
  const version = (n: number, warn: number, more: object = {}) => ({
    version: n,
    settings: settings(warn),
    author: "mara",
    reason: "",
    at: "2026-06-16T09:00:00Z",
    ...more,
  });
  const asked = serve({
    "GET /monitors/gates/versions": {
      body: [
        version(3, 30 * day),
        version(2, 90 * day, { reason: "accepted: fewer at night" }),
        version(1, 90 * day, { author: "" }),
      ],
    },
    "POST /monitors/gates/take-back": { status: 409, body: { detail: "somebody changed it meanwhile" } },
    "PUT /monitors/gates/always-tell": { body: {} },
  });
  at("/", <Versions m={monitor()} />);
  await screen.findByText(/accepted: fewer at night/);
  const said = [...document.querySelectorAll("section > div.flex, section div.border-hair")].map(
    (d) => d.textContent,
  );
  expect(said.find((s) => s?.startsWith("3 "))).toMatch(/^3 changed warnmara, Tue 09:00 UTC$/);
  expect(said.find((s) => s?.startsWith("1 "))).toBe("1 firstset up, Tue 09:00 UTCtake back");
  expect(screen.getAllByText("take back")).toHaveLength(2); // what is in force is not taken back
  await userEvent.click(screen.getAllByText("take back")[0]);
  expect((await screen.findByRole("alert")).textContent).toBe("somebody changed it meanwhile");
  await userEvent.click(screen.getByLabelText("never hold its alerts back"));
  await expect
    .poll(() => asked.filter((a) => a.method !== "GET").map((a) => [a.path, a.body]))
    .toEqual([
      ["/monitors/gates/take-back", { version: 2 }],
      ["/monitors/gates/always-tell", { always: true }],
    ]);
});

const none = { slope: 0, worth: 0 };
const kin = { low: none, high: none, silence: none, missing: none, stuck: none, young: 0 };
const rule = (name: string, more: object = {}) => ({
  rule: name,
  stated: 0.4,
  since: 0.1,
  rung: 0,
  told: 0,
  factor: 1,
  ...more,
});
const budget = (rules: object[], more: object = {}) => ({
  from: "2026-05-01T00:00:00Z",
  to: "2026-05-20T00:00:00Z",
  series: 12,
  rules,
  kin,
  ...more,
});

test("how the budget was kept on its own past is told by rule, those that had nothing left out", () => {
  const rules = [
    rule("deviation", { rung: 2, told: 1, factor: 1.4 }),
    rule("silence"),
    rule("stuck", { rung: 1, factor: 1.001 }),
  ];
  at("/", <Kept m={monitor({ budget: budget(rules) })} />);
  expect(rows()).toEqual([
    ["deviation", "0.5", "3", "x 1.40"],
    ["stuck", "0.5", "1", "own"],
  ]);
  expect(screen.getByText(/rings counted from Fri 1 May to Wed 20 May over 12 series\./)).toBeTruthy();
});

test("what its series tell of each other is said where they are alike", () => {
  const alike = { ...kin, low: { slope: 1, worth: 12.4 }, stuck: { slope: 1, worth: 6 }, young: 0.25 };
  at("/", <Kept m={monitor({ budget: budget([], { kin: alike }) })} />);
  expect(screen.getByText(/over 12 series: none\./)).toBeTruthy();
  expect(screen.getByText(/each leans on the others/).textContent).toContain(
    "as on 12 dips, 6 frozen stretches of its own.",
  );
  expect(screen.getByText(/has limits 25 % higher/)).toBeTruthy();
});

test("before its first fit nothing is said to be kept", () => {
  at("/", <Kept m={monitor()} />);
  expect(screen.getByText("Not tried yet: it is with the first fit.")).toBeTruthy();
});

test("what cannot be judged says since when and why; what broke off stands out", () => {
  const state = (id: number, more: object) =>
    ({
      series_id: id,
      segment: `gate ${id}`,
      state: "waiting",
      since: "2026-06-16T09:00:00Z",
      message: "9 days of 14",
      ...more,
    }) as unknown as SeriesState;
  const { container, rerender } = at(
    "/",
    <NotJudged
      states={[state(1, {}), state(2, { state: "failed", segment: "", message: "it broke off" })]}
    />,
  );
  expect(screen.getAllByRole("listitem").map((l) => l.textContent)).toEqual([
    "gate 1 since Tue 16 Jun 09:00 UTC: 9 days of 14",
    "all since Tue 16 Jun 09:00 UTC: it broke off",
  ]);
  expect(screen.getAllByRole("listitem")[1].className).toContain("text-verm");
  expect(screen.getByText("1 broke off")).toBeTruthy();
  rerender(<NotJudged states={[]} />);
  expect(container.textContent).toBe("");
});
