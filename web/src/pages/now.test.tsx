import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { GroupRow, Health } from "../api/client";
import { address, at, here, serve } from "../test/served";
import { NowPage } from "./NowPage";

const now = "2026-06-17T12:00:00Z";

const group = (id: number, more: Partial<GroupRow> = {}) =>
  ({
    id,
    alerts: 1,
    lead: id,
    datasets: [`raw.t${id}`],
    origin: `raw.t${id}`,
    place: `raw.t${id}`,
    owner: "",
    zone: "UTC",
    severity: "warning",
    sentence: `raw.t${id} sends nothing`,
    began_at: "2026-06-17T08:00:00Z",
    opened_at: `2026-06-17T09:0${id}:00Z`,
    taken_by: "",
    answered: 0,
    ...more,
  }) as unknown as GroupRow;

const dataset = (name: string, more: Partial<Health> = {}) =>
  ({ dataset: { name, zone: "UTC" }, loads: [], worst: "", load: null, ...more }) as unknown as Health;

const served = (groups: GroupRow[], more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /me": { body: { name: "mara", now } },
    "GET /groups": { body: { groups } },
    "GET /alerts": { body: { alerts: [] } },
    "GET /channels": { body: [] },
    "GET /slas": { body: [] },
    "GET /datasets": { body: [dataset("raw.t1")] },
    "GET /incidents": { body: [] },
    ...more,
  });

const shown = () => screen.getAllByRole("article").map((a) => Number(a.dataset.group));

test("where nothing is wrong one sentence says so", async () => {
  served([]);
  at("/", <NowPage />);
  await expect.poll(here).toBe("Nothing is wrong: everything arrives as expected.");
  expect(screen.getByText(/Nothing to answer/)).toBeTruthy();
});

test("what nobody looks after comes first, then what is critical, then the newest", async () => {
  served([
    group(1, { taken_by: "jon", severity: "critical" }),
    group(2),
    group(3, { severity: "critical" }),
    group(4),
    group(5, { answered: 1, severity: "critical" }),
  ]);
  at("/", <NowPage />);
  await expect.poll(here).toBe("Five things are wrong, three of them critical: raw.t3 sends nothing.");
  expect(shown()).toEqual([3, 4, 2, 5, 1]);
});

test("one thing that is wrong is said in the singular", async () => {
  served([group(1, { severity: "critical" })]);
  at("/", <NowPage />);
  await expect.poll(here).toBe("One thing is wrong, critical: raw.t1 sends nothing.");
});

test("J and K choose, T looks after what is chosen, Enter opens it", async () => {
  const asked = served([group(1), group(2)], { "POST /groups/1/take": { body: {} } });
  at("/", <NowPage />);
  await screen.findAllByRole("article");
  const chosen = () => screen.getAllByRole("article").find((a) => a.getAttribute("aria-current") === "true");
  expect(chosen()?.dataset.group).toBe("2");
  await userEvent.keyboard("jj");
  expect(chosen()?.dataset.group).toBe("1");
  await userEvent.keyboard("t");
  await expect.poll(() => asked.find((a) => a.path === "/groups/1/take")?.body).toEqual({ back: false });
  await userEvent.keyboard("k{Enter}");
  await expect.poll(address).toBe("/groups/2");
});

test("a channel that cannot be reached is said at the top: what is to be told waits", async () => {
  served([], {
    "GET /channels": {
      body: [
        { id: 1, name: "pager", failing_since: "2026-06-17T11:00:00Z", paused: false, message: "refused" },
        { id: 2, name: "old", failing_since: "2026-06-17T11:00:00Z", paused: true, message: "refused" },
      ],
    },
  });
  at("/", <NowPage />);
  expect((await screen.findByRole("alert")).textContent).toBe(
    "pager has not been reached since Wed 11:00 UTC: refused. What is to be said waits.",
  );
});

test("late loads come before those that are due, and promises that fall behind before both", async () => {
  const load = (expected: string, deadline: string, overdue: boolean) => ({
    expected,
    deadline,
    overdue,
    last: expected,
  });
  served([], {
    "GET /datasets": {
      body: [
        dataset("raw.next", {
          load: load("2026-06-17T13:00:00Z", "2026-06-17T13:30:00Z", false),
        } as Partial<Health>),
        dataset("raw.late", {
          load: load("2026-06-17T08:00:00Z", "2026-06-17T09:00:00Z", true),
        } as Partial<Health>),
        dataset("raw.pushed"),
      ],
    },
    "GET /slas": {
      body: [
        {
          name: "parcels",
          standing: "behind",
          have: 3,
          at_least: 5,
          counts: "files",
          window_to: "2026-06-17T14:00:00Z",
          zone: "UTC",
          paused: false,
        },
        { name: "kept", standing: "met", paused: false },
      ],
    },
  });
  at("/", <NowPage />);
  await screen.findByText("4 h late");
  const rows = screen.getAllByRole("row").slice(1);
  expect(rows.map((r) => within(r).getByRole("link").textContent)).toEqual(["raw.late", "raw.next"]);
  expect(screen.getByText(/3 of 5 files by 14:00/)).toBeTruthy();
  expect(screen.queryByText("kept")).toBeNull();
  expect(screen.getByText(/One load is overdue/).textContent).toContain(
    "In the last 7 days 0 alerts were raised",
  );
});

test("on an empty service the way to the first band is shown", async () => {
  served([], { "GET /datasets": { body: [] } });
  at("/", <NowPage />);
  await expect.poll(here).toBe("Nothing is watched yet.");
  expect(screen.getByText("Connect a warehouse or a folder").getAttribute("href")).toBe("/setup");
});

test("a group of several says how many alerts it is, and where it likely began", async () => {
  served(
    [group(1, { alerts: 4, datasets: ["mart.load", "raw.gates"], origin: "raw.gates", place: "raw.gates" })],
    {
      "GET /datasets/raw.gates/lineage": {
        body: {
          nodes: [
            { name: "raw.gates", depth: 0, watched: true },
            { name: "mart.load", depth: 1, watched: true },
            { name: "mart.unseen", depth: 1, watched: false },
          ],
          links: [],
        },
      },
    },
  );
  at("/", <NowPage />);
  expect((await screen.findByText(/and 3 alerts more in 2 datasets/)).textContent).toContain(
    "likely from raw.gates",
  );
  expect((await screen.findByText(/made from it/)).textContent).toBe("made from it: mart.load");
});
