import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { at, part, serve } from "../../test/served";
import { Learning } from "./Learning";

const filter = (more: object = {}) => ({
  state: "shadow",
  limit: 0.01,
  labels: 40,
  faults: 28,
  noise: 12,
  right: 0.81,
  held_now: 5,
  nightly: false,
  checked: {
    from: "2026-05-01T00:00:00Z",
    faults: 9,
    faults_lost: 0,
    lost_high: 0.3,
    noise: 6,
    noise_held: 4,
  },
  ...more,
});

const gain = (more: object = {}) => ({
  changes: ["warn 90 d → 30 d"],
  spared: 12,
  alerts_before: 40,
  lost: 0.2,
  incidents_gained: [],
  noise: 8,
  noise_spared: 6,
  spared_low: 0.4,
  spared_high: 0.9,
  faults: 5,
  faults_lost: 0,
  lost_high: 0.45,
  ...more,
});

function open(more: Parameters<typeof serve>[0] = {}) {
  const asked = serve({ "GET /proposals": { body: [] }, "GET /filter": { body: filter() }, ...more });
  at("/scorecard", <Learning />);
  return asked;
}

test("a proposal says what it spares and loses, on time that the search had not seen", async () => {
  open({ "GET /proposals": { body: [{ id: 3, monitor: "gates", gain: gain() }] } });
  const proposals = await part(/^Proposals/);
  const text = (await proposals.findByText(/spares about/)).textContent;
  expect(text).toBe(
    "spares about 12 of 40 alerts, loses about 0.2 faults. On time the search had not seen: " +
      "6 of 8 known false alarms spared (40 % to 90 %), 0 of 5 known faults lost (at most 45 %).",
  );
});

test.each<[string, object, RegExp]>([
  ["one that rings more often", { spared: -3 }, /^raises about 3 alerts more than today's 40, loses/],
  [
    "one that finds incidents",
    { spared: 0.2, incidents_gained: ["I-4", "I-9"] },
    /spares about 0 of 40 alerts.*, finds I-4, I-9\./,
  ],
  ["one without labels later", { noise: 0, faults: 0 }, /Nothing is labelled in the time held out\.$/],
  ["one without false alarms later", { noise: 0 }, /no known false alarm, 0 of 5 known faults lost/],
])("of %s that is said", async (_, more, says) => {
  open({ "GET /proposals": { body: [{ id: 3, monitor: "gates", gain: gain(more) }] } });
  const proposals = await part(/^Proposals/);
  expect((await proposals.findByText(/loses about/)).textContent).toMatch(says);
});

test("a proposal is accepted or rejected by a person; what fails is said beside it", async () => {
  const asked = open({
    "GET /proposals": {
      body: [
        { id: 3, monitor: "gates", gain: gain() },
        { id: 4, monitor: "doors", gain: gain() },
      ],
    },
    "POST /proposals/3": { body: {} },
    "POST /proposals/4": { status: 409, body: { detail: "doors was changed meanwhile" } },
  });
  await userEvent.click((await screen.findAllByRole("button", { name: "Accept" }))[0]);
  await userEvent.click(screen.getAllByRole("button", { name: "Reject" })[1]);
  expect((await screen.findByRole("alert")).textContent).toBe("doors was changed meanwhile");
  expect(asked.filter((a) => a.method === "POST").map((a) => [a.path, a.body])).toEqual([
    ["/proposals/3", { accept: true }],
    ["/proposals/4", { accept: false }],
  ]);
});

test("a search says how far it is, can be called off, and says at its end what it passed over", async () => {
  let state = "running";
  const tuning = {
    sentence: "One of 2 monitors can do better.",
    passed: [
      {
        monitor: "doors",
        why: "too few answers",
        stopped: [
          {
            changes: ["warn 90 d → 30 d"],
            spared: 4,
            faults: [
              { alert: 7, sentence: "door 2 was low", segment: "door 2" },
              { alert: 0, incident: "I-4", segment: "" },
            ],
          },
        ],
      },
    ],
  };
  const asked = open({
    "POST /tunings": { body: { task_id: 9 } },
    "GET /tunings/9": () => ({
      body: { task: { id: 9, state, done: 30, total: 120 }, tuning: state === "done" ? tuning : undefined },
    }),
    "POST /tasks/9/cancel": { body: {} },
  });
  await userEvent.click(await screen.findByText("search for better settings"));
  expect((await screen.findByText(/searching, 25 %/)).getAttribute("role")).toBe("status");
  await userEvent.click(screen.getByText("cancel"));
  await expect.poll(() => asked.some((a) => a.path === "/tasks/9/cancel")).toBe(true);
  state = "done";
  expect(await screen.findByText("One of 2 monitors can do better.")).toBeTruthy();
  const passed = screen.getByText("1 monitor stays as it is").closest("details")!;
  expect(passed.textContent).toContain("doors: too few answers");
  expect(passed.textContent).toContain("would spare about 4, and lose alert 7 (door 2), I-4");
  expect(asked.filter((a) => a.path === "/proposals").length).toBeGreaterThan(1); // they are looked at again
});

test("without a proposal it is said what the search learns from", async () => {
  open();
  const proposals = await part(/^Proposals/);
  expect((await proposals.findByText(/No proposal waits/)).textContent).toContain(
    "Labels are what the search learns from.",
  );
});

test.each<[string, object]>([
  [
    "Nobody has labelled anything yet: it knows what it shipped with. " +
      "15 labels are needed to check it on later time.",
    { labels: 0, checked: { from: null } },
  ],
  [
    "Learned from 1 label, 1 fault and 0 noise. 15 labels are needed to check it on later time.",
    { labels: 1, faults: 1, noise: 0, right: -1, checked: { from: null } },
  ],
  [
    "Learned from 40 labels, 28 faults and 12 noise; of pairs it had not seen it orders 81 % rightly. " +
      "On labels newer than " +
      "it learned from it would lose 0 of 9 faults (at most 30 %) and hold back 4 of 6 noise.",
    {},
  ],
])("the filter says: %s", async (says, more) => {
  open({ "GET /filter": { body: filter(more) } });
  expect(await screen.findByText(says)).toBeTruthy();
});

test("the filter is switched, bounded and run by night with one press each", async () => {
  const asked = open({ "PATCH /filter": { body: {} } });
  const panel = await part(/^Filter of false alarms/);
  expect(panel.getByText("5 alerts in four weeks").getAttribute("href")).toBe("/alerts?held=shadow");
  await userEvent.click(panel.getByRole("radio", { name: "active" }));
  await userEvent.click(panel.getByRole("radio", { name: "2 %" }));
  await userEvent.click(panel.getByRole("checkbox"));
  await expect
    .poll(() => asked.filter((a) => a.method === "PATCH").map((a) => a.body))
    .toEqual([{ state: "active" }, { limit: 0.02 }, { nightly: true }]);
});

test("a limit between the choices shows the nearest, and a refused change is said", async () => {
  open({
    "GET /filter": { body: filter({ limit: 0.018, state: "active" }) },
    "PATCH /filter": { status: 403, body: { detail: "this asks for an administrator" } },
  });
  const panel = await part(/^Filter of false alarms/);
  expect(panel.getByRole("radio", { name: "2 %" }).getAttribute("data-state")).toBe("on");
  expect(panel.getByText("5 alerts in four weeks").getAttribute("href")).toBe("/alerts?held=held");
  await userEvent.click(panel.getByRole("radio", { name: "off" }));
  expect((await panel.findByRole("alert")).textContent).toBe("this asks for an administrator");
});
