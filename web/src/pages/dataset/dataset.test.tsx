import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { describe, expect, test } from "vitest";
import { address, at, cells, here, part, serve } from "../../test/served";
import { DatasetPage } from "../DatasetPage";
import { Surroundings } from "./Surroundings";

const now = "2026-06-17T09:00:00Z";
const editor = { "GET /me": { body: { name: "mara", role: "editor", now } } };
const name = "raw.gates";

describe("the page of a dataset", () => {
  const metric = (id: number, measure: string, more: object = {}) => ({
    id,
    name: `gates-${measure}`,
    measure,
    unit: "",
    column: "",
    segment_by: [],
    period_seconds: 3600,
    state: "ready",
    message: "",
    collected_to: "2026-06-17T08:00:00Z",
    zone: "UTC",
    comparison: "",
    time_column: "",
    series: [],
    ...more,
  });
  const page = (more: object = {}, health: object = {}) => ({
    dataset: {
      name,
      owner: "Harbour data",
      zone: "Europe/Amsterdam",
      source: "house",
      tags: [],
      pattern: "",
    },
    health: {
      newest: "2026-06-17T08:30:00Z",
      age_seconds: 1800,
      deviation_24h: -0.4,
      rows_24h: 940,
      expected_24h: 1000,
      open_alerts: 2,
      load: { overdue: false, deadline: "2026-06-17T10:00:00Z" },
      ...health,
    },
    metrics: [metric(1, "null_share", { column: "fare" }), metric(2, "freshness"), metric(3, "rows")],
    ...more,
  });
  const open = (body: object, path = `/datasets/${name}`, more: Parameters<typeof serve>[0] = {}) => {
    serve({
      [`GET /datasets/${name}`]: { body },
      "GET /alerts": { body: { alerts: [] } },
      ...editor,
      ...more,
    });
    at(
      path,
      <Routes>
        <Route path="/datasets/:name" element={<DatasetPage />} />
      </Routes>,
    );
  };

  test.each<[string, object]>([
    ["was loaded 30 min ago, with 940 rows in 24 hours where 1,000 were expected", {}],
    [
      "has had no load for 5 h",
      { load: { overdue: true, deadline: now }, age_seconds: 18_000, deviation_24h: null },
    ],
    ["was last heard of 30 min ago", { load: null, deviation_24h: null }],
    ["is watched", { load: null, newest: null, deviation_24h: null }],
  ])("says that it %s", async (says, health) => {
    open(page({}, health));
    await expect.poll(here).toBe(`${name} ${says}.`);
  });

  test("says whose it is, by whose clocks, and when the next load is due", async () => {
    open(page());
    expect((await screen.findByText(/^Harbour data; times in/)).textContent).toBe(
      "Harbour data; times in Amsterdam; read from house; deviation −0.4 half-widths; " +
        "next load by Wed 17 Jun 12:00.",
    );
  });

  test("shows volume first, then how fresh it is, then the rest; what cannot be read says why", async () => {
    open(
      page({
        metrics: [...page().metrics, metric(4, "mean", { state: "failed", message: "no column fare" })],
      }),
    );
    await screen.findByText(/cannot be read: no column fare/);
    const titles = screen.getAllByRole("heading", { level: 2 }).map((h) => h.firstChild?.textContent);
    expect(titles.slice(0, 4)).toEqual(["rows", "freshness", "null share", "mean"]);
    expect(screen.queryAllByText("read up to Wed 10:00")).toHaveLength(0); // each by the clocks of its metric
    expect(screen.getAllByText("read up to Wed 08:00")).toHaveLength(3);
  });

  test("keeps the stretch in the address, beside how gaps are shown", async () => {
    open(page(), `/datasets/${name}?fill=zero`);
    await userEvent.click(await screen.findByRole("button", { name: "28 days" }));
    expect(address()).toBe(`/datasets/${name}?fill=zero&span=28+days`);
    expect(screen.getByRole("button", { name: "28 days" }).getAttribute("aria-pressed")).toBe("true");
  });

  test("lists its alerts with their labels", async () => {
    const alert = {
      series_id: 3,
      severity: "warning",
      zone: "UTC",
      raised_at: now,
      return_period_seconds: 86_400 * 60,
    };
    open(page(), undefined, {
      "GET /alerts": {
        body: {
          alerts: [
            { ...alert, id: 4, sentence: "gate 3 was low", verdict: "", closed_at: null },
            { ...alert, id: 5, sentence: "gate 1 was low", verdict: "noise", closed_at: now },
          ],
        },
      },
    });
    const row = (await screen.findByText("gate 3 was low")).closest("div")!;
    expect(row.textContent).toContain("about once in 60 days");
    expect(row.textContent).toContain("unlabelled");
    expect(screen.getByText("gate 1 was low").closest("div")!.textContent).toContain("noise");
  });

  test("that is not there says so", async () => {
    open({}, undefined, {
      [`GET /datasets/${name}`]: { status: 404, body: { detail: "no dataset of that name" } },
    });
    await expect.poll(here).toBe(`There is no dataset ${name}.`);
  });
});

describe("what a dataset hangs on", () => {
  const open = (more: Parameters<typeof serve>[0], files = false) => {
    serve({ ...editor, "GET /reconciliations": { body: [] }, ...more });
    at("/", <Surroundings name={name} source="house" zone="UTC" files={files} />);
  };
  const run = (id: number, state: string, more: object = {}) => ({
    id,
    state,
    message: "",
    started_at: "2026-06-17T07:00:00Z",
    ended_at: "2026-06-17T07:10:00Z",
    heard_at: now,
    rows: 1200,
    bytes: 48_000,
    ...more,
  });

  test("runs say how long they took beside the longest, and why one failed", async () => {
    open({
      [`GET /datasets/${name}/runs`]: {
        body: [
          run(1, "complete"),
          run(2, "failed", {
            message: "disk full",
            ended_at: "2026-06-17T07:05:00Z",
            rows: null,
            bytes: null,
          }),
          run(3, "running", { ended_at: null }),
        ],
      },
    });
    const runs = await part(/^Runs/);
    await runs.findByText("1 of the last 3 failed");
    const rows = runs.getAllByRole("row").slice(1);
    expect(cells(rows[0])).toEqual(["Wed 07:10", "complete", "10 min", "", "1,200", "48 kB"]);
    expect(cells(rows[1])).toEqual(["Wed 07:05", "failed: disk full", "5 min", "", "–", "–"]);
    expect(cells(rows[2]).slice(0, 3)).toEqual(["Wed 09:00", "running", "–"]);
    expect(rows.map((r) => r.querySelector("i")!.style.width)).toEqual(["100%", "50%", "0%"]);
  });

  test("columns say what changed of them and when", async () => {
    const column = (of: string, type: string, nullable = true) => ({ name: of, type, nullable });
    open({
      [`GET /datasets/${name}/columns`]: {
        body: [
          {
            seen_at: "2026-06-16T10:00:00Z",
            columns: [column("gate", "text", false), column("at", "timestamp with time zone")],
            changes: [
              { column: "gate", what: "retyped", is: "text", was: "integer" },
              { column: "fare", what: "removed" },
            ],
          },
          { seen_at: "2026-05-01T10:00:00Z", columns: [], changes: [] },
        ],
      },
    });
    const columns = await part(/^Columns/);
    await columns.findByText("gate is text, was integer; fare removed", { exact: false });
    expect(columns.getAllByRole("row").map(cells)).toEqual([
      ["gate", "text", "never null", "retyped Tue 10:00"],
      ["at", "timestamptz", "", ""],
    ]);
  });

  test("files stand out where they are broken or came twice", async () => {
    const file = (id: number, state: string, more: object = {}) => ({
      id,
      state,
      landed_at: now,
      path: `${id}.csv`,
      segment: "north",
      rows: 100,
      bytes: 4000,
      message: "",
      ...more,
    });
    open(
      {
        [`GET /datasets/${name}/deliveries`]: {
          body: [
            file(1, "good"),
            file(2, "broken", { rows: null, message: "line 3 is cut" }),
            file(3, "doubled"),
          ],
        },
      },
      true,
    );
    const files = await part(/^Files/);
    await files.findByText("1.csv");
    const rows = files.getAllByRole("row").slice(1);
    expect(cells(rows[0]).slice(2)).toEqual(["north", "100", "4 kB", "40 B", "good"]);
    expect(cells(rows[1]).slice(3)).toEqual(["–", "4 kB", "–", "broken: line 3 is cut"]);
    expect(rows.map((r) => r.lastElementChild!.className.includes("text-verm"))).toEqual([false, true, true]);
  });

  test("what is not known yet says how it comes to be", async () => {
    open({ [`GET /datasets/${name}/runs`]: { body: [] } }, true);
    expect((await part(/^Runs/)).getByText(/Send OpenLineage events/)).toBeTruthy();
    expect(screen.getByText("Not looked at yet.")).toBeTruthy();
    expect(screen.getByText("No file has landed yet.")).toBeTruthy();
    expect(screen.queryByRole("heading", { name: /^Lineage/ })).toBeNull();
  });
});
