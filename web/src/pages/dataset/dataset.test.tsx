import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { describe, expect, test } from "vitest";
import { address, at, here, serve } from "../../test/served";
import { DatasetPage } from "../DatasetPage";
import { Noted } from "./Noted";
import { Reconciled } from "./Reconciled";
import { StandOut } from "./StandOut";
import { Surroundings } from "./Surroundings";

const now = "2026-06-17T09:00:00Z";
const editor = { "GET /me": { body: { name: "mara", role: "editor", now } } };
const reader = { "GET /me": { body: { name: "jon", role: "reader", now } } };
const name = "raw.gates";
const part = async (of: RegExp) =>
  within((await screen.findByRole("heading", { name: of })).closest("section")!);
const cells = (row: Element) => [...row.querySelectorAll("td")].map((c) => c.textContent);

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

describe("stages that are compared", () => {
  const compared = (more: object = {}) => ({
    name: "gates-day",
    metric: "gates-day-lack",
    up_dataset: name,
    down_dataset: "mart.day",
    up_key: "id",
    lag_seconds: 1800,
    tolerance: 0.02,
    compared_to: "2026-06-17T08:00:00Z",
    message: "",
    ...more,
  });
  const open = (list: object[], more: Parameters<typeof serve>[0] = editor) => {
    const asked = serve({ "GET /reconciliations": { body: list }, ...more });
    at("/", <Reconciled name={name} zone="UTC" />);
    return asked;
  };

  test("stand with their lag and tolerance, those of other datasets do not", async () => {
    open([
      compared(),
      compared({ name: "other", up_dataset: "a", down_dataset: "b" }),
      compared({ name: "late", message: "it is locked" }),
    ]);
    const own = await part(/^Reconciled/);
    expect(
      own
        .getAllByRole("row")
        .slice(1)
        .map((r) => cells(r).slice(0, 6)),
    ).toEqual([
      ["gates-day", name, "mart.day", "30 min", "2 %", "Wed 08:00"],
      ["late", name, "mart.day", "30 min", "2 %", "it is locked"],
    ]);
  });

  test("rows on one side are looked up when asked, named, and not kept", async () => {
    const asked = open([compared()], {
      ...editor,
      "POST /reconciliations/gates-day/keys": {
        body: {
          sides: [
            {
              dataset: name,
              missing: 14,
              rows: 900,
              key: "id",
              segments: { Fennick: 3, "": 1, Northmole: 10 },
              some: ["a", "b"],
            },
            { dataset: "mart.day", missing: 0, rows: 886, key: "id", segments: {}, some: [] },
          ],
        },
      },
    });
    await userEvent.click(await screen.findByText("rows on one side"));
    const said = (await screen.findByText(/are not on the other side/)).textContent;
    expect(said).toBe(
      `${name}: 14 of 900 keys of the last day are not on the other side: ` +
        "10 of Northmole, 3 of Fennick. id: a, b, …",
    );
    expect(screen.getByText(/the other side has all of its 886 keys/)).toBeTruthy();
    expect(asked.find((a) => a.method === "POST")?.body).toEqual({
      from: "2026-06-16T08:00:00.000Z",
      to: "2026-06-17T08:00:00Z",
    });
  });

  test("end only after a second word, and not by a reader", async () => {
    const asked = open([compared()], {
      ...editor,
      "DELETE /reconciliations/gates-day": { status: 409, body: { detail: "it is being read" } },
    });
    await userEvent.click(await screen.findByText("remove"));
    await userEvent.click(screen.getByText("End it"));
    expect((await screen.findByRole("alert")).textContent).toBe("it is being read");
    expect(asked.some((a) => a.method === "DELETE")).toBe(true);
  });

  test("a reader sees them and changes nothing; without any there is nothing to see", async () => {
    open([compared()], reader);
    await part(/^Reconciled/);
    expect(screen.queryByText("remove")).toBeNull();
    expect(screen.queryByText("compare with another stage")).toBeNull();
  });

  test("a new one says which stage comes first", async () => {
    const columns = [{ seen_at: now, columns: [{ name: "id" }, { name: "gate" }], changes: [] }];
    const asked = open([], {
      ...editor,
      "GET /datasets": { body: [{ dataset: { name } }, { dataset: { name: "mart.day" } }] },
      [`GET /datasets/${name}/columns`]: { body: columns },
      "GET /datasets/mart.day/columns": { body: columns },
      "POST /reconciliations": { body: {} },
    });
    await userEvent.click(await screen.findByText("compare with another stage"));
    const choose = async (label: RegExp, option: string) => {
      await userEvent.click(screen.getByRole("combobox", { name: label }));
      await userEvent.click(await screen.findByRole("option", { name: option }));
    };
    await choose(/^The other stage/, "mart.day");
    await choose(/^It comes/, `before ${name}`);
    await choose(/^By segment/, "gate");
    fireEvent.change(screen.getByLabelText(/^Lag/), { target: { value: "30" } });
    fireEvent.change(screen.getByLabelText(/^Tolerance/), { target: { value: "2" } });
    await userEvent.click(screen.getByRole("button", { name: "Compare" }));
    await expect
      .poll(() => asked.find((a) => a.method === "POST")?.body)
      .toMatchObject({
        up: "mart.day",
        down: name,
        measure: "rows",
        by: ["gate"],
        lag_seconds: 1800,
        tolerance: 0.02,
      });
  });
});

describe("rows that stand out", () => {
  const columns = {
    [`GET /datasets/${name}/columns`]: {
      body: [
        {
          seen_at: now,
          changes: [],
          columns: [
            { name: "ship_id", type: "bigint" },
            { name: "fare", type: "numeric(8,2)" },
            { name: "gate", type: "text" },
          ],
        },
      ],
    },
  };
  const odd = { at: now, place: "", value: 900, usual: 90, modified_z: 8.25, rules: ["fences"] };

  test("are looked up by a column with numbers that is no key", async () => {
    const asked = serve({
      ...columns,
      [`POST /datasets/${name}/outliers`]: {
        body: {
          column: "fare",
          rows: 12_000,
          more: true,
          sql: "select 1",
          studies: [{ sentence: "1 stands out.", zone: "UTC", odd: [odd] }],
        },
      },
    });
    at("/", <StandOut dataset={name} />);
    await userEvent.click(await screen.findByText("look"));
    expect((await screen.findByText(/1 stands out/)).textContent).toContain(
      "Only the newest 12,000 rows were looked at.",
    );
    expect(cells(screen.getAllByRole("row")[1])).toEqual(["Wed 17 Jun 09:00", "900", "90", "+8.3", "fences"]);
    expect(screen.getByText("select 1")).toBeTruthy();
    expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({ column: "fare", limit: 8 });
  });

  test("are told apart by the values of another column", async () => {
    const study = (rows: object[]) => ({ sentence: "", zone: "UTC", odd: rows });
    serve({
      ...columns,
      [`POST /datasets/${name}/outliers`]: {
        body: {
          column: "fare",
          rows: 12_000,
          more: false,
          sql: "",
          studies: [study([{ ...odd, place: "Fennick" }]), study([]), study([odd])],
        },
      },
    });
    at("/", <StandOut dataset={name} />);
    await userEvent.click(await screen.findByLabelText(/each value of/));
    await userEvent.click(await screen.findByRole("option", { name: "gate" }));
    await userEvent.click(screen.getByText("look"));
    expect(await screen.findByText("Rows of 2 of 3 values of gate stand out.")).toBeTruthy();
    expect(
      screen
        .getAllByRole("row")
        .slice(1)
        .map((r) => cells(r)[1]),
    ).toEqual(["Fennick", "(none)"]);
  });

  test("of a table without numbers there are none", async () => {
    serve({
      [`GET /datasets/${name}/columns`]: {
        body: [{ seen_at: now, changes: [], columns: [{ name: "gate", type: "text" }] }],
      },
    });
    at("/", <StandOut dataset={name} />);
    expect(await screen.findByText("No column with numbers is known of this table.")).toBeTruthy();
  });
});

describe("notes", () => {
  const note = (id: number, more: object = {}) => ({
    id,
    at: now,
    text: `note ${id}`,
    author: "mara",
    dataset: name,
    link: "",
    ...more,
  });

  test("are listed with who wrote them, and those on everything say so", async () => {
    serve({
      ...reader,
      "GET /notes": { body: [note(1, { link: "https://changes.example/81" }), note(2, { dataset: "" })] },
    });
    at("/", <Noted name={name} zone="UTC" />);
    expect((await screen.findByText("note 1")).getAttribute("href")).toBe("https://changes.example/81");
    expect(screen.getByText(/note 2/).textContent).toContain("mara, on all datasets");
    expect(screen.queryByText("remove")).toBeNull();
  });

  test("are written with the time they are about, or with now", async () => {
    const asked = serve({ ...editor, "GET /notes": { body: [] }, "POST /notes": { body: {} } });
    at("/", <Noted name={name} zone="UTC" />);
    await userEvent.click(await screen.findByText("note something"));
    await userEvent.type(screen.getByLabelText("What happened"), "release 4.2");
    await userEvent.click(screen.getByRole("button", { name: "Note" }));
    await expect
      .poll(() => asked.find((a) => a.method === "POST")?.body)
      .toEqual({ dataset: name, text: "release 4.2" });
    await expect.poll(() => screen.queryByLabelText("What happened")).toBeNull();
  });

  test("that are refused stay as they were typed", async () => {
    serve({
      ...editor,
      "GET /notes": { body: [] },
      "POST /notes": { status: 422, body: { detail: "it lies ahead" } },
    });
    at("/", <Noted name={name} zone="UTC" />);
    await userEvent.click(await screen.findByText("note something"));
    await userEvent.type(screen.getByLabelText("What happened"), "release 4.2");
    fireEvent.change(screen.getByLabelText("When, by your clock"), { target: { value: "2031-01-01T00:00" } });
    await userEvent.click(screen.getByRole("button", { name: "Note" }));
    expect((await screen.findByRole("alert")).textContent).toBe("it lies ahead");
    expect(screen.getByLabelText<HTMLInputElement>("What happened").value).toBe("release 4.2");
  });
});
