import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { FileSet, Metric } from "../../api/client";
import { address, at, serve } from "../../test/served";
import { Files } from "./Files";
import { Metrics } from "./Metrics";

const metric = (name: string, more: Partial<Metric> = {}) =>
  ({
    id: name.length,
    name,
    dataset: "ops.sales",
    measure: "null_share",
    column: "fare",
    segment_by: ["gate"],
    period_seconds: 3600,
    every_seconds: 900,
    cron: "",
    lookback_seconds: 7200,
    settle_seconds: 90,
    max_segments: 200,
    unit: "rows",
    tags: ["night"],
    collected_to: "2026-06-17T08:00:00Z",
    zone: "UTC",
    kind: "share",
    state: "ready",
    message: "",
    comparison: "",
    ...more,
  }) as unknown as Metric;

const row = (name: string) => screen.getByText(name, { selector: "td" }).closest("tr")!;

test("how each metric is collected is said, and a failing one why", () => {
  serve({});
  at(
    "/setup",
    <Metrics
      list={[
        metric("a"),
        metric("bb", { cron: "5 * * * *", every_seconds: 0, segment_by: [] }),
        metric("ccc", { every_seconds: 0, collected_to: null, period_seconds: 86_400 }),
        metric("dddd", { state: "failed", message: "column fare does not exist" }),
      ]}
    />,
  );
  expect(row("a").textContent).toContain("null share faregate");
  expect(row("a").textContent).toContain("every 15 min");
  expect(row("bb").textContent).toContain("cron 5 * * * *");
  expect(row("ccc").textContent).toContain("pushed");
  expect(within(row("dddd")).getByTitle("column fare does not exist").textContent).toContain("failed");
  expect(screen.getByText("4 metrics")).toBeTruthy();
});

test("what was typed as people write it is sent in seconds, and the form closes", async () => {
  const asked = serve({ "PATCH /metrics/a": { body: {} } });
  at("/setup", <Metrics list={[metric("a")]} />);
  await userEvent.click(screen.getByText("change"));
  const type = (label: string, text: string) =>
    fireEvent.change(screen.getByLabelText(label), { target: { value: text } });
  expect(screen.getByLabelText<HTMLInputElement>("Collected every, or cron").value).toBe("15m");
  expect(screen.getByLabelText<HTMLInputElement>("Waits after a period").value).toBe("90s");
  type("Collected every, or cron", "6h");
  type("Reads back", "2d");
  type("Segments at most", "50");
  type("Tags", "night,  day");
  await userEvent.click(screen.getByRole("button", { name: "Save" }));
  await expect.poll(() => screen.queryByLabelText("Reads back")).toBeNull();
  expect(asked.find((a) => a.method === "PATCH")?.body).toEqual({
    every_seconds: 21_600,
    lookback_seconds: 172_800,
    settle_seconds: 90,
    max_segments: 50,
    unit: "rows",
    tags: ["night", "day"],
  });
});

test("what is no duration is taken for cron, and elsewhere said to be wrong before it is sent", async () => {
  const asked = serve({ "PATCH /metrics/a": { body: {} } });
  at("/setup", <Metrics list={[metric("a")]} />);
  await userEvent.click(screen.getByText("change"));
  fireEvent.change(screen.getByLabelText("Reads back"), { target: { value: "two days" } });
  expect(screen.getByRole("alert").textContent).toBe("Write durations as 90s, 15m, 6h or 2d.");
  expect(screen.getByRole("button", { name: "Save" }).hasAttribute("disabled")).toBe(true);
  fireEvent.change(screen.getByLabelText("Reads back"), { target: { value: "1mo" } });
  fireEvent.change(screen.getByLabelText("Collected every, or cron"), { target: { value: " 5 * * * * " } });
  fireEvent.change(screen.getByLabelText("Name"), { target: { value: "sales-fare" } });
  await userEvent.click(screen.getByRole("button", { name: "Save" }));
  await expect
    .poll(() => asked.find((a) => a.method === "PATCH")?.body)
    .toMatchObject({ cron: "5 * * * *", lookback_seconds: 2_592_000, name: "sales-fare" });
});

test("what is pushed has no schedule to change, and what is compared no name", async () => {
  serve({});
  at("/setup", <Metrics list={[metric("a", { every_seconds: 0, segment_by: [], comparison: "psi" })]} />);
  await userEvent.click(screen.getByText("change"));
  for (const label of ["Collected every, or cron", "Reads back", "Segments at most", "Name"])
    expect(screen.queryByLabelText(label)).toBeNull();
  expect(screen.getByLabelText("Waits after a period")).toBeTruthy();
});

test("a refused change is said and stays open; a removal asks first and says what goes with it", async () => {
  const asked = serve({
    "PATCH /metrics/a": { status: 422, body: { detail: "cron: 61 is no minute" } },
    "DELETE /metrics/a": { status: 409, body: { detail: "a comparison needs it" } },
  });
  at("/setup", <Metrics list={[metric("a")]} />);
  await userEvent.click(screen.getByText("change"));
  await userEvent.click(screen.getByRole("button", { name: "Save" }));
  expect((await screen.findByRole("alert")).textContent).toBe("cron: 61 is no minute");
  await userEvent.click(screen.getByText("close"));
  await userEvent.click(screen.getByText("remove"));
  expect(screen.getByRole("alertdialog").textContent).toContain("The table itself is not touched.");
  await userEvent.click(screen.getByText("Remove it"));
  expect((await screen.findByRole("alert")).textContent).toBe("a comparison needs it");
  expect(asked.filter((a) => a.method === "DELETE")).toHaveLength(1);
});

test("words narrow the list, and what fits nothing is said", async () => {
  serve({});
  at("/setup", <Metrics list={[metric("a"), metric("bb", { dataset: "raw.gates" })]} />);
  await userEvent.type(screen.getByRole("searchbox"), "raw");
  expect(address()).toBe("/setup?metrics-find=raw");
  expect(screen.queryByText("a", { selector: "td" })).toBeNull();
  await userEvent.type(screen.getByRole("searchbox"), "x");
  expect(screen.getByText("Nothing fits the filter.")).toBeTruthy();
});

const landed = (more: Partial<FileSet> = {}) => ({
  pattern: "parcels/{depot}/*.csv",
  files: 412,
  bytes: 12_400_000,
  newest: "2026-06-17T05:10:00Z",
  example: "parcels/north/2026-06-17.csv",
  dataset: "",
  ...more,
});

const folder = (files: FileSet[], more: Parameters<typeof serve>[0] = {}) => {
  const asked = serve({
    "GET /sources/landing/files": { body: files },
    "GET /me": { body: { name: "mara", now: "2026-06-17T09:00:00Z" } },
    "GET /datasets": { body: [] },
    ...more,
  });
  at("/setup", <Files source="landing" />);
  return asked;
};

test("files are put together by how they lie, and lead to their dataset", async () => {
  folder([landed(), landed({ pattern: "rosters/*.csv", dataset: "landing.rosters" })]);
  const first = (await screen.findByText("parcels/{depot}/*.csv")).closest("tr")!;
  expect(first.textContent).toContain("41212 MBWed 05:10 UTC");
  expect(first.textContent).toContain("none yet");
  expect(screen.getByRole("link", { name: "landing.rosters" }).getAttribute("href")).toBe(
    "/datasets/landing.rosters",
  );
});

test("an empty folder says what counts as unfinished", async () => {
  folder([]);
  expect(await screen.findByText(/Names that begin with a dot/)).toBeTruthy();
});

test("files are measured under the names they suggest, one series for each part of the path", async () => {
  const asked = folder([landed()], {
    "POST /datasets": { body: {} },
    "POST /metrics": { body: {} },
    "POST /backfills": { body: { task_id: 3 } },
    "GET /tasks/3": { body: { id: 3, state: "running", done: 0, total: 4 } },
  });
  await userEvent.click(await screen.findByText("measure"));
  expect(screen.getByLabelText<HTMLInputElement>("Dataset").value).toBe("landing.parcels");
  await userEvent.click(screen.getByLabelText("rows"));
  fireEvent.change(screen.getByLabelText("Time zone"), { target: { value: "Europe/Amsterdam" } });
  await userEvent.click(screen.getByRole("button", { name: "Measure 2 metrics, and the past" }));
  await expect.poll(() => asked.filter((a) => a.path === "/metrics" && a.method === "POST").length).toBe(2);
  expect(asked.find((a) => a.path === "/datasets" && a.method === "POST")?.body).toMatchObject({
    source: "landing",
    name: "landing.parcels",
    zone: "Europe/Amsterdam",
    pattern: "parcels/{depot}/*.csv",
  });
  expect(asked.find((a) => a.path === "/metrics")?.body).toMatchObject({
    name: "parcels-files-deliveries",
    measure: "deliveries",
    segment_by: ["depot"],
    period_seconds: 86_400,
    settle_seconds: 600,
  });
});

test("without anything chosen nothing can be measured", async () => {
  folder([landed()]);
  await userEvent.click(await screen.findByText("measure"));
  for (const what of ["files", "rows", "freshness"]) await userEvent.click(screen.getByLabelText(what));
  expect(screen.getByRole("button", { name: /^Measure 0 metrics/ }).hasAttribute("disabled")).toBe(true);
});
