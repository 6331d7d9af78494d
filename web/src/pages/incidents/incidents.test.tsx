import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import type { Incident } from "../../api/client";
import { address, at, serve } from "../../test/served";
import { IncidentsPage } from "../IncidentsPage";
import { local } from "./Edit";

const incident = (reference: string, started_at: string, more: Partial<Incident> = {}) =>
  ({
    id: Number(reference.slice(3)),
    reference,
    title: `fault ${reference}`,
    dataset: "raw.gate_events",
    also: [],
    measure: "",
    segment: "",
    cause: "",
    severity: "warning",
    started_at,
    ended_at: null,
    zone: "UTC",
    note: "",
    author: "",
    impact: "",
    downstream: false,
    known_at: null,
    ...more,
  }) as unknown as Incident;

const list = [
  incident("VF-001", "2026-01-02T00:00:00Z"),
  incident("VF-002", "2026-05-02T00:00:00Z", { title: "gates, all of them", also: ["ops.scans"] }),
  incident("VF-003", "2026-05-09T00:00:00Z", { ended_at: "2026-05-09T05:00:00Z", cause: "disk" }),
];
const scorecard = {
  from: "2026-04-01T00:00:00Z",
  missed: ["VF-003"],
  overall: { recall: { n: 2, k: 1 } },
};

const served = (incidents: Incident[], more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /incidents": { body: incidents },
    "GET /scorecard": { body: scorecard },
    "GET /datasets": { body: [{ dataset: { name: "raw.gate_events" } }] },
    ...more,
  });

const rows = () => screen.getAllByRole("row").slice(1);

test("the page says how many faults reached nobody, and each says whether it was told", async () => {
  served(list);
  at("/incidents", <IncidentsPage />);
  expect((await screen.findByRole("heading", { level: 1 })).textContent).toBe("");
  await screen.findByText("fault VF-001");
  expect(screen.getByRole("heading", { level: 1 }).textContent).toBe(
    "Three incidents are on record; of the 2 since judging began, one reached nobody.",
  );
  const told = Object.fromEntries(
    rows().map((r) => [within(r).getByText(/^VF-/).textContent, r.textContent]),
  );
  expect(told["VF-001"]).toContain("before judging");
  expect(told["VF-002"]).toContain("told");
  expect(told["VF-003"]).toContain("missed");
  expect(told["VF-003"]).toContain("5 h");
  expect(told["VF-002"]).toContain("ops.scans");
});

test("an empty catalogue asks for what is remembered", async () => {
  served([]);
  at("/incidents", <IncidentsPage />);
  expect(await screen.findByText("The catalogue is empty.")).toBeTruthy();
  expect(screen.getByText(/recall is counted from them/)).toBeTruthy();
});

test("what is exported is what the filter shows, with quotes where a title has commas", async () => {
  served(list);
  const kept: Blob[] = [];
  vi.stubGlobal(
    "URL",
    Object.assign(URL, { createObjectURL: (b: Blob) => (kept.push(b), "blob:x"), revokeObjectURL: () => {} }),
  );
  const click = vi.spyOn(HTMLAnchorElement.prototype, "click").mockImplementation(() => {});
  at("/incidents?find=gates", <IncidentsPage />);
  await userEvent.click(await screen.findByText("Export 1"));
  const text = await kept[0].text();
  const [head, row] = text.split("\n");
  expect(head).toBe(
    "reference,dataset,title,started_at,ended_at,measure,segment,cause,severity,note,author,known_at," +
      "impact,downstream,also",
  );
  expect(row).toBe(
    'VF-002,raw.gate_events,"gates, all of them",2026-05-02T00:00:00Z,,,,,warning,,,,,false,ops.scans',
  );
  click.mockRestore();
});

test("two that are marked are made one, called as the first that was marked", async () => {
  const asked = served(list, { "POST /incidents/VF-003/merge": { body: {} } });
  at("/incidents", <IncidentsPage />);
  await userEvent.click(await screen.findByLabelText("mark VF-003"));
  expect(screen.queryByText(/make one of/)).toBeNull();
  await userEvent.click(screen.getByLabelText("mark VF-002"));
  await userEvent.click(screen.getByText("make one of the 2 marked, called VF-003"));
  await expect.poll(() => asked.find((a) => a.method === "POST")?.body).toEqual({ others: ["VF-002"] });
  await expect.poll(() => screen.queryByText(/make one of/)).toBeNull();
});

test("a change keeps what was not touched, to the second, and closes the form", async () => {
  const precise = incident("VF-004", "2026-05-09T00:00:17Z", { measure: "rows", segment: "Cald" });
  const asked = served([precise], { "PUT /incidents/VF-004": { body: {} } });
  at("/incidents", <IncidentsPage />);
  await userEvent.click(await screen.findByText("edit"));
  const form = screen.getByRole("form", { name: "edit VF-004" });
  await userEvent.type(within(form).getByLabelText(/What it did to whom/), "queues at the gates");
  await userEvent.click(within(form).getByLabelText("critical"));
  await userEvent.click(within(form).getByText("Save"));
  await expect
    .poll(() => asked.find((a) => a.method === "PUT")?.body)
    .toMatchObject({
      started_at: "2026-05-09T00:00:17Z",
      measure: "rows",
      segment: "Cald",
      severity: "critical",
      impact: "queues at the gates",
      downstream: false,
      also: [],
    });
  await expect.poll(() => screen.queryByRole("form", { name: "edit VF-004" })).toBeNull();
});

test("an incident is cut in two at an instant, and without one it is not", async () => {
  const asked = served([list[2]], { "POST /incidents/VF-003/split": { body: {} } });
  at("/incidents", <IncidentsPage />);
  await userEvent.click(await screen.findByText("edit"));
  expect(screen.getByText("split")).toHaveProperty("disabled", true);
  fireEvent.change(screen.getByLabelText("Split at"), { target: { value: "2026-05-09T02:00" } });
  await userEvent.click(screen.getByText("split"));
  await expect
    .poll(() => asked.find((a) => a.path.endsWith("/split"))?.body)
    .toEqual({ at: new Date("2026-05-09T02:00").toISOString() });
});

test("why a removal was refused is said in the form, which stays", async () => {
  served([list[0]], {
    "DELETE /incidents/VF-001": {
      status: 409,
      body: { detail: "VF-001 was made by a label: take the label back" },
    },
  });
  at("/incidents", <IncidentsPage />);
  await userEvent.click(await screen.findByText("edit"));
  await userEvent.click(screen.getByText("remove"));
  expect((await screen.findByRole("alert")).textContent).toContain("take the label back");
  expect(screen.getByRole("form", { name: "edit VF-001" })).toBeTruthy();
});

test("an imported catalogue says what was added, replaced and refused, and why the first was", async () => {
  served([], {
    "POST /incidents/import": {
      body: { added: 3, replaced: 1, refused: 2, problems: [{ line: 5, reason: "ended before it began" }] },
    },
  });
  at("/incidents", <IncidentsPage />);
  await userEvent.upload(
    await screen.findByLabelText("Import CSV"),
    new File(["reference,dataset\n"], "incidents.csv", { type: "text/csv" }),
  );
  await screen.findByText("3 added, 1 replaced, 2 lines refused: line 5, ended before it began");
});

test("the filter's words stand in the address", async () => {
  served(list);
  at("/incidents?find=disk", <IncidentsPage />);
  await screen.findByText("fault VF-003");
  expect(rows()).toHaveLength(1);
  expect(address()).toBe("/incidents?find=disk");
});

test("a time fills a field in the browser's own zone, and comes back as the same instant", () => {
  for (const at of ["2026-01-15T12:00:00Z", "2026-07-15T12:00:00Z"])
    expect(new Date(local(at)).toISOString()).toBe(at.replace("Z", ".000Z"));
  expect(local(null)).toBe("");
});
