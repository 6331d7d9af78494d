import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, test } from "vitest";
import type { Metric, Offered, Source } from "../../api/client";
import { address, at, here, part, serve } from "../../test/served";
import { SetupPage } from "./SetupPage";
import { Tables } from "./Tables";

const now = "2026-06-17T09:00:00Z";

const source = (name: string, more: Partial<Source> = {}) =>
  ({
    id: name.length,
    name,
    kind: "postgresql",
    address: `postgres://db/${name}`,
    state: "ready",
    message: "",
    ...more,
  }) as unknown as Source;

const metric = (name: string, dataset: string, state = "ready") =>
  ({
    id: name.length,
    name,
    dataset,
    state,
    measure: "rows",
    column: "",
    segment_by: [],
    tags: [],
    cron: "",
    every_seconds: 300,
    period_seconds: 3600,
    lookback_seconds: 0,
    settle_seconds: 0,
    zone: "UTC",
    message: "",
  }) as unknown as Metric;

describe("the set-up", () => {
  const open = (
    sources: Source[],
    metrics: Metric[],
    tasks: object[] = [],
    more: Parameters<typeof serve>[0] = {},
  ) => {
    const asked = serve({
      "GET /sources": { body: sources },
      "GET /metrics": { body: metrics },
      "GET /tasks": { body: tasks },
      "GET /me": { body: { name: "mara", now } },
      ...more,
    });
    at("/setup", <SetupPage />);
    return asked;
  };

  test.each<[string, Source[], Metric[]]>([
    ["Nothing is measured yet: add a source.", [], []],
    [
      "One source, 1 dataset, 2 metrics, and all can be read.",
      [source("a")],
      [metric("x", "d"), metric("yy", "d")],
    ],
    [
      "Two sources, 0 datasets, 0 metrics; bb cannot be read.",
      [source("a"), source("bb", { state: "failed", message: "no route" })],
      [],
    ],
    [
      "One source, 2 datasets, 3 metrics; d and e cannot be read.",
      [source("a")],
      [metric("x", "d", "failed"), metric("yy", "d", "failed"), metric("zzz", "e", "failed")],
    ],
  ])("%s", async (says, sources, metrics) => {
    open(sources, metrics);
    await expect.poll(here).toBe(says);
  });

  test("a source opens by what it is, and what is pushed does not open", async () => {
    open(
      [
        source("house"),
        source("landing", { kind: "folder" }),
        source("pushes", { kind: "push", address: "" }),
      ],
      [],
      [],
      {
        "GET /sources/house/tables": { body: [] },
        "GET /sources/landing/files": { body: [] },
      },
    );
    await userEvent.click(await screen.findByRole("button", { name: "tables" }));
    expect(address()).toBe("/setup?source=house");
    expect(await screen.findByText(/This login may read no table/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "files" }));
    expect(address()).toBe("/setup?source=landing");
    expect(await screen.findByText(/Nothing has landed yet/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "close" }));
    expect(address()).toBe("/setup");
    expect(screen.getByText("sent to /api/v1/samples and /v1/metrics")).toBeTruthy();
  });

  test("long work can be steered as far as it can: a fit ends by itself", async () => {
    const task = (id: number, what: string, state: string, more: object = {}) => ({
      id,
      what,
      subject: `s${id}`,
      state,
      done: 1,
      total: 4,
      message: "",
      started_at: "2026-06-17T08:00:00Z",
      ...more,
    });
    const asked = open(
      [source("a")],
      [],
      [
        task(1, "backfill", "running"),
        task(2, "backfill", "paused"),
        task(3, "fit", "running", { total: 0, done: 0 }),
        task(4, "backfill", "failed", { message: "permission denied" }),
        task(5, "backfill", "done"),
      ],
      {
        "POST /tasks/1/pause": { body: {} },
        "POST /tasks/2/resume": { status: 409, body: { detail: "it was cancelled" } },
      },
    );
    const work = await part(/^Long work/);
    const rows = work.getAllByRole("row").map((r) => r.textContent);
    expect(rows).toEqual([
      "backfills125 %runningWed 08:00 UTCpausecancel",
      "backfills225 %pausedWed 08:00 UTCresumecancel",
      "fits30 %runningWed 08:00 UTC",
      "backfills425 %failedpermission deniedresume",
      "backfills5100 %doneWed 08:00 UTC",
    ]);
    await userEvent.click(work.getByText("pause"));
    await userEvent.click(work.getAllByText("resume")[0]);
    expect((await work.findByRole("alert")).textContent).toBe("it was cancelled");
    expect(asked.filter((a) => a.method === "POST").map((a) => a.path)).toEqual([
      "/tasks/1/pause",
      "/tasks/2/resume",
    ]);
  });
});

describe("a table", () => {
  const table = (name: string, more: Partial<Offered> = {}) =>
    ({
      name,
      kind: "table",
      rows: 12_400,
      bytes: 4_800_000,
      time_columns: ["sold_at", "loaded_at"],
      loaded_by: "loaded_at",
      columns: [
        { name: "sale_id", type: "bigint", nullable: false },
        { name: "sold_at", type: "timestamp with time zone", nullable: false },
        { name: "loaded_at", type: "timestamp with time zone", nullable: false },
        { name: "gate", type: "text", nullable: false },
        { name: "fare", type: "numeric", nullable: true },
      ],
      ...more,
    }) as unknown as Offered;

  const open = (tables: Offered[], more: Parameters<typeof serve>[0] = {}) => {
    const asked = serve({
      "GET /sources/house/tables": { body: tables },
      "GET /metrics": { body: [metric("x", "ops.known")] },
      "GET /datasets": {
        body: [{ dataset: { name: "ops.known", zone: "America/Halifax", owner: "Harbour data" } }],
      },
      "GET /me": { body: { name: "mara", now } },
      "GET /tasks": { body: [] },
      ...more,
    });
    at("/setup", <Tables source="house" />);
    return asked;
  };

  test("that is not measured comes first, with what can be counted by", async () => {
    open([
      table("ops.known"),
      table("ops.view", { kind: "view", rows: -1, time_columns: [], loaded_by: "" }),
    ]);
    await screen.findByText("ops.view");
    const rows = screen
      .getAllByRole("row")
      .slice(1)
      .map((r) => [...r.querySelectorAll("td")].map((c) => c.textContent));
    expect(rows.map((r) => r.slice(0, 6))).toEqual([
      ["ops.viewview", "not counted", "4.8 MB", "none: measured as it stands", "–", "not yet"],
      ["ops.known", "12,400", "4.8 MB", "sold_at", "loaded_at", "1 metric"],
    ]);
  });

  test("offers what makes sense: no key, no mean of words, nulls only where there can be any", async () => {
    open([table("ops.sales")]);
    await userEvent.click(await screen.findByLabelText("Measure ops.sales"));
    const offers = within(
      await screen.findByRole("heading", { name: /^What to measure/ }).then((h) => h.closest("section")!),
    );
    expect(offers.getAllByRole("checkbox").map((b) => b.closest("label")!.textContent)).toEqual([
      "rows",
      "freshness",
      "different gate",
      "nulls of fare",
      "mean fare",
      "median fare",
      "size of the table",
    ]);
  });

  test("is added with its metrics, in that order, and then its past is read", async () => {
    const asked = open([table("ops.sales")], {
      "POST /datasets": { body: {} },
      "POST /metrics": { body: {} },
      "POST /backfills": { body: { task_id: 3 } },
    });
    await userEvent.click(await screen.findByLabelText("Measure ops.sales"));
    await userEvent.click(screen.getByLabelText("freshness"));
    await userEvent.click(screen.getByLabelText("nulls of fare"));
    await userEvent.click(screen.getByRole("radio", { name: "day" }));
    fireEvent.change(screen.getByLabelText("Owner"), { target: { value: "Harbour data" } });
    fireEvent.change(screen.getByLabelText("Time zone"), { target: { value: "Europe/Amsterdam" } });
    await userEvent.click(screen.getByRole("button", { name: "Measure 3 metrics, and the past" }));
    await expect.poll(() => asked.filter((a) => a.path === "/backfills").length).toBe(1);
    const sent = asked.filter((a) => a.method === "POST" && a.path !== "/metrics/try");
    expect(sent.map((a) => a.path)).toEqual(["/datasets", "/metrics", "/metrics", "/metrics", "/backfills"]);
    expect(sent[0].body).toMatchObject({
      source: "house",
      owner: "Harbour data",
      zone: "Europe/Amsterdam",
      loaded_by: "loaded_at",
    });
    expect(sent[1].body).toMatchObject({
      name: "sales-rows",
      time_column: "sold_at",
      period_seconds: 86_400,
      settle_seconds: 14_400,
    });
    expect(sent[2].body).toMatchObject({ name: "sales-freshness", settle_seconds: 0 });
    expect(sent[3].body).toMatchObject({
      name: "sales-fare-null-share",
      column: "fare",
      measure: "null_share",
    });
    expect(sent[4].body).toEqual({
      metrics: ["sales-rows", "sales-freshness", "sales-fare-null-share"],
      since_seconds: 16 * 7 * 86_400,
    });
  });

  test("that is known keeps its clocks and its owner, and shows what is asked of the warehouse", async () => {
    const asked = open([table("ops.known")], {
      "POST /metrics/try": { body: { sql: "select count(*)", message: "2 segments" } },
    });
    await userEvent.click(await screen.findByLabelText("Measure ops.known"));
    await expect
      .poll(() => screen.getByLabelText<HTMLInputElement>("Time zone").value)
      .toBe("America/Halifax");
    expect(screen.getByLabelText<HTMLInputElement>("Owner").value).toBe("Harbour data");
    expect(screen.getByLabelText("Owner").hasAttribute("disabled")).toBe(true);
    expect(await screen.findByText("select count(*)")).toBeTruthy();
    expect(screen.getByText("2 segments")).toBeTruthy();
    expect(asked.find((a) => a.path === "/metrics/try")?.body).toMatchObject({
      dataset: "ops.known",
      name: "known-rows",
    });
  });

  test("that is refused says why, and nothing of its past is read", async () => {
    const asked = open([table("ops.sales")], {
      "POST /datasets": { body: {} },
      "POST /metrics": { status: 422, body: { detail: "column sold_at does not exist" } },
    });
    await userEvent.click(await screen.findByLabelText("Measure ops.sales"));
    await userEvent.click(screen.getByRole("button", { name: /^Measure 1 metric/ }));
    expect((await screen.findByText("column sold_at does not exist")).getAttribute("role")).toBe("alert");
    expect(asked.some((a) => a.path === "/backfills")).toBe(false);
  });

  test("without a time is measured as it stands", async () => {
    open([table("ops.codes", { time_columns: [], loaded_by: "" })]);
    await userEvent.click(await screen.findByLabelText("Measure ops.codes"));
    expect(screen.getByText(/no column holds one/)).toBeTruthy();
    expect(screen.queryByLabelText("freshness")).toBeNull();
  });
});
