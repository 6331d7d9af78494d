import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { AlertDetail } from "../../api/client";
import { at, section, serve } from "../../test/served";
import { Why } from "./Why";

const alert = { id: 4, dataset: "ops.sales", zone: "UTC" } as unknown as AlertDetail;

const contributor = (name: string, more: object = {}) => ({
  tags: [{ column: "gate", value: name }],
  observed: 40,
  expected: 100,
  share: 0.6,
  z: -6,
  ...more,
});

const contribution = (more: object = {}) => ({
  measure: "rows",
  way: "is missing",
  weeks: 4,
  sampled: 1,
  observed: 140,
  expected: 200,
  parts: [{ says: "gate 3 has 40 where 100 were expected", share: 0.92 }],
  by: [
    {
      column: "gate",
      rate: 0,
      mix: 0,
      values: [contributor("gate 3"), contributor("gate 1", { z: 0.2, share: -0.1 })],
    },
    { column: "class", rate: 0, mix: 0, values: [contributor("foot")] },
  ],
  ...more,
});

const nothing = {
  zone: "UTC",
  contribution: null,
  together: null,
  lineage: null,
  before: [],
  listings: [],
  missing: {
    contribution: "its samples were pushed",
    together: "nothing else is watched",
    lineage: "no lineage was told",
    before: "no fault is labelled yet",
    listings: "there is no warehouse to read from",
  },
};

function open(why: object, more: Parameters<typeof serve>[0] = {}) {
  const asked = serve({
    "GET /alerts/4/why": { body: { ...nothing, ...why } },
    "GET /me": { body: { name: "mara", role: "editor", now: "2026-06-17T09:00:00Z" } },
    ...more,
  });
  at("/alerts/4", <Why alert={alert} />);
  return asked;
}

test("a part that is missing says why, and each stands alone", async () => {
  open({});
  expect((await section("Segments behind it")).textContent).toContain("Not known: its samples were pushed.");
  for (const reason of Object.values(nothing.missing).slice(1))
    expect(screen.getByText(`Not known: ${reason}.`)).toBeTruthy();
});

test("when all of it cannot be found out that is said, and the page stands", async () => {
  open({}, { "GET /alerts/4/why": { status: 503, body: { detail: "the warehouse does not answer" } } });
  expect(await screen.findByText("the warehouse does not answer")).toBeTruthy();
});

test("segments are named with their share of what is missing, and broken down by column", async () => {
  open({ contribution: contribution() });
  const segments = within(await section(/^Segments behind it/));
  expect(segments.getByText("against the same hours of 4 earlier weeks")).toBeTruthy();
  expect(segments.getByText("92 % of all that is missing")).toBeTruthy();
  const rows = () =>
    segments
      .getAllByRole("row")
      .slice(1)
      .map((r) => r.textContent);
  expect(rows()).toEqual(["gate 34010060 %", "gate 140100–"]);
  expect(segments.getByText("gate 3").className).toContain("font-[650]"); // far beyond chance
  expect(segments.getByText("gate 1").className).toBe("");
  await userEvent.click(segments.getByRole("button", { name: "class" }));
  expect(rows()).toEqual(["foot4010060 %"]);
});

test("where no segment stands out that is said, and so is a sample", async () => {
  open({ contribution: contribution({ parts: [], sampled: 0.1 }) });
  const segments = within(await section(/^Segments behind it/));
  expect(segments.getByText("No segment stands out from the others.")).toBeTruthy();
  expect(segments.getByText("from 10 % of the rows")).toBeTruthy();
});

test("of a share it is said what is in the figures and what in how rows are spread", async () => {
  const by = [
    {
      column: "gate",
      rate: 0.03,
      mix: 0.01,
      values: [contributor("gate 3", { observed: 0.06, expected: 0.02 })],
    },
  ];
  open({ contribution: contribution({ measure: "share", observed: 0.06, expected: 0.02, by }) });
  const segments = within(await section(/^Segments behind it/));
  expect(segments.getByText(/of the change is in the values' own figures/).textContent).toContain("75 %");
  expect(segments.getByText("6.0 %")).toBeTruthy();
});

test("what broke with it is listed, with what the broken have in common", async () => {
  open({
    together: {
      broken: 3,
      series: 1200,
      skipped: 40,
      shared: [{ column: "host", value: "a", broken: 3, sound: 1, other_broken: 0, other_sound: 1196 }],
      most: [
        {
          series_id: 9,
          segment: "Fennick",
          metric: "gates",
          now: 4,
          usual: 90,
          kind: "count",
          z: -7.25,
          alert: 12,
        },
        { series_id: 10, segment: "", metric: "staff", now: 0.2, usual: 0.1, kind: "share", z: 5, alert: 0 },
      ],
    },
  });
  const company = within(await section(/^Broke with it/));
  expect(company.getByText("3 of 1,200 series broke in these hours")).toBeTruthy();
  expect(company.getByText("host = a").closest("p")?.textContent).toBe(
    "host = a: 3 of 4 broke; elsewhere 0 of 1196",
  );
  expect(company.getByRole("link", { name: "rang" }).getAttribute("href")).toBe("/alerts/12");
  expect(company.getAllByRole("row")[2].textContent).toContain("staff 20.0 %10.0 %+5.0 σ");
  expect(company.getByText("40 more series were not compared.")).toBeTruthy();
});

test("stages show where it broke first, who is hit, and what ran and changed there", async () => {
  open({
    lineage: {
      first: "raw.gates",
      nodes: [
        { name: "raw.gates", since: "2026-06-17T06:00:00Z", watched: true },
        { name: "ops.sales", since: null, watched: true },
        { name: "mart.day", since: null, watched: false },
      ],
      links: [
        { from: "raw.gates", to: "ops.sales" },
        { from: "ops.sales", to: "mart.day" },
      ],
      hit: [{ name: "mart.day", owner: "finance" }],
      runs: [{ job: "load-gates", dataset: "raw.gates", says: "failed twice", at: "2026-06-17T05:50:00Z" }],
      columns: [{ dataset: "raw.gates", at: "2026-06-16T10:00:00Z", says: "gate became text" }],
    },
  });
  const stages = within(await section(/^Upstream and downstream/));
  expect(stages.getByText("made from it: 1 dataset of finance")).toBeTruthy();
  expect(stages.getAllByRole("listitem").map((l) => l.textContent)).toEqual([
    "load-gates, which writes raw.gates: failed twice, Wed 05:50",
    "columns of raw.gates changed Tue 10:00: gate became text",
  ]);
});

test("faults like it lead to their alert, or to the incident of nobody's alert", async () => {
  const before = {
    started_at: "2026-05-01T09:00:00Z",
    seconds: 7200,
    cause: "disk",
    alike: ["same segment", "as deep"],
  };
  open({
    missing: {},
    before: [
      { ...before, reference: "", alert: 8, title: "gate 3 was low" },
      { ...before, reference: "I-4 a", alert: 0, title: "Lost a day", cause: "", seconds: 0 },
    ],
  });
  const seen = within(await section(/^Seen before/));
  expect(seen.getAllByRole("link").map((l) => l.getAttribute("href"))).toEqual([
    "/alerts/8",
    "/incidents?find=I-4%20a",
  ]);
  expect(seen.getByText("disk").closest("div")?.textContent).toBe(
    "Fri 1 May 09:00, disk, took 2 h; same segment, as deep",
  );
});

const listings = [
  { name: "missing", title: "what is missing", sql: "select 1" },
  { name: "odd", title: "what is odd", sql: "select 2" },
];

test("rows are read when somebody asks for them, and gone with another question", async () => {
  const asked = open(
    { missing: {}, listings },
    { "POST /alerts/4/rows": { body: { columns: ["gate", "n"], rows: [["3", "40"]], more: true } } },
  );
  const rows = within(await section(/^Rows/));
  expect(rows.getByText("select 1")).toBeTruthy();
  expect(asked.some((a) => a.method === "POST")).toBe(false);
  await userEvent.click(await rows.findByText("show 100 rows here"));
  expect((await rows.findByText(/there are more/)).textContent).toContain("1 row; there are more");
  expect(asked.find((a) => a.method === "POST")?.body).toEqual({ listing: "missing", limit: 100 });
  await userEvent.click(rows.getByRole("button", { name: "what is odd" }));
  expect(rows.getByText("select 2")).toBeTruthy();
  expect(rows.queryByText(/there are more/)).toBeNull();
});

test("a reader sees the question and not the rows; what fails is said", async () => {
  open(
    { missing: {}, listings },
    { "GET /me": { body: { name: "jon", role: "reader", now: "2026-06-17T09:00:00Z" } } },
  );
  const rows = within(await section(/^Rows/));
  expect(rows.getByText("copy")).toBeTruthy();
  expect(rows.queryByText("show 100 rows here")).toBeNull();
});

test("rows that cannot be read say why, and none at all say so", async () => {
  open(
    { missing: {}, listings },
    { "POST /alerts/4/rows": { status: 502, body: { detail: "permission denied for table sales" } } },
  );
  const rows = within(await section(/^Rows/));
  await userEvent.click(await rows.findByText("show 100 rows here"));
  expect((await rows.findByRole("alert")).textContent).toBe("permission denied for table sales");
});
