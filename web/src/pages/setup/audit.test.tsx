import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Audit } from "../../api/client";
import { address, at, here, serve } from "../../test/served";
import { AuditPage } from "./AuditPage";

const entry = (id: number, more: Partial<Audit> = {}) =>
  ({
    id,
    at: `2026-06-17T09:0${id}:00Z`,
    who: "mara",
    role: "editor",
    what: "change",
    about: `monitors/gates-${id}`,
    note: "warn_seconds: 30 d → 90 d",
    origin: "192.0.2.7",
    before: { version: id },
    after: { version: id + 1 },
    ...more,
  }) as unknown as Audit;

const served = (list: Audit[], proof: object = { entries: 1204, broken: 0 }) =>
  serve({
    "GET /audit": { body: list },
    "GET /audit/proof": { body: proof },
    "GET /alerts": { body: { alerts: [] } },
  });

test("it says that each entry follows from the one before", async () => {
  served([entry(1)]);
  at("/setup/audit", <AuditPage />);
  await expect.poll(here).toBe("1,204 entries are kept, and each follows from the one before it.");
  expect(screen.getByText("1 entry")).toBeTruthy();
});

test("it says where the trail is not as it was written", async () => {
  served([entry(1)], { entries: 1204, broken: 17 });
  at("/setup/audit", <AuditPage />);
  await expect
    .poll(here)
    .toBe("The audit trail is not as it was written: entry 17 does not follow from the one before it.");
});

test("who did what to what, from where, and what differs", async () => {
  served([
    entry(1),
    entry(2, { who: "the service", role: "", note: "", origin: "", before: null, after: null }),
  ]);
  at("/setup/audit", <AuditPage />);
  const row = (await screen.findByText("monitors/gates-1")).closest("tr")!;
  expect(row.textContent).toContain("maraeditor");
  expect(row.textContent).toContain("warn_seconds: 30 d → 90 d");
  expect(row.textContent).toContain("192.0.2.7");
  const other = screen.getByText("monitors/gates-2").closest("tr")!;
  expect(within(other).getAllByText("–")).toHaveLength(2);
  expect(within(other).queryByText("whole")).toBeNull(); // there is nothing more to show
});

test("an entry opens to what was there before and after, and one at a time", async () => {
  served([entry(1), entry(2, { before: null })]);
  at("/setup/audit", <AuditPage />);
  const open = await screen.findAllByRole("button", { name: "whole" });
  await userEvent.click(open[0]);
  expect([...document.querySelectorAll("pre")].map((p) => p.textContent)).toEqual([
    '{\n  "version": 1\n}',
    '{\n  "version": 2\n}',
  ]);
  expect(screen.getByRole("button", { name: "close" }).getAttribute("aria-expanded")).toBe("true");
  await userEvent.click(screen.getByRole("button", { name: "whole" }));
  expect([...document.querySelectorAll("pre")].map((p) => p.textContent)).toEqual([
    "nothing",
    '{\n  "version": 3\n}',
  ]);
  await userEvent.click(screen.getByRole("button", { name: "close" }));
  expect(document.querySelector("pre")).toBeNull();
});

test("what is looked for stands in the address", async () => {
  served([]);
  at("/setup/audit?who=mara", <AuditPage />);
  expect((await screen.findByLabelText<HTMLInputElement>("Who")).value).toBe("mara");
  await userEvent.type(screen.getByLabelText("To what"), "x");
  expect(address()).toBe("/setup/audit?who=mara&about=x");
  await userEvent.clear(screen.getByLabelText("Who"));
  expect(address()).toBe("/setup/audit?about=x");
  expect(await screen.findByText("Nothing fits.")).toBeTruthy();
});

test("a reader, who may not look, is told so", async () => {
  serve({
    "GET /audit": { status: 403, body: { detail: "this asks for an administrator" } },
    "GET /audit/proof": { status: 403, body: { detail: "this asks for an administrator" } },
    "GET /alerts": { body: { alerts: [] } },
  });
  at("/setup/audit", <AuditPage />);
  expect((await screen.findByRole("alert")).textContent).toBe(
    "The audit trail could not be read: this asks for an administrator.",
  );
  expect(here()).toBe("");
});

test("as many entries as are read at once are said to be the last", async () => {
  served(Array.from({ length: 200 }, (_, i) => entry(i % 10, { id: i })));
  at("/setup/audit", <AuditPage />);
  expect(await screen.findByText("the last 200")).toBeTruthy();
});
