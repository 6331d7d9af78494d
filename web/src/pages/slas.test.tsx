import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Promised } from "../api/client";
import { at, here, serve } from "../test/served";
import { SLAsPage } from "./SLAsPage";

const now = "2026-06-17T06:00:00Z";

const promise = (name: string, standing: Promised["standing"], more: Partial<Promised> = {}) =>
  ({
    name,
    dataset: "landing.parcels",
    owner: "",
    zone: "UTC",
    counts: "files",
    at_least: 5,
    have: 3,
    days: "mon-fri",
    from_minute: 0,
    to_minute: 390,
    lead_seconds: 7200,
    standing,
    sentence: `${name} is ${standing}: 3 of 5 files came`,
    window_from: "2026-06-17T00:00:00Z",
    window_to: "2026-06-17T06:30:00Z",
    met_at: standing === "met" ? "2026-06-17T05:10:00Z" : null,
    probability: 0.42,
    learned_from: 18,
    next_from: null,
    next_to: null,
    months: [],
    windows: [],
    ...more,
  }) as unknown as Promised;

const served = (list: Promised[], more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /slas": { body: list },
    "GET /me": { body: { name: "mara", now } },
    "GET /datasets": { body: [{ dataset: { name: "landing.parcels" } }, { dataset: { name: "ops.sales" } }] },
    ...more,
  });

test("what is missed is said first, then what falls behind, and how likely it is still met", async () => {
  served([promise("sales", "met"), promise("parcels", "behind"), promise("rosters", "missed")]);
  at("/slas", <SLAsPage />);
  await expect
    .poll(here)
    .toBe("Of 3 promises one is missed, one is behind, one is met: rosters, 3 of 5 files came.");
  const shown = screen.getAllByRole("article").map((a) => a.textContent);
  expect(shown.map((t) => /rosters|parcels|sales/.exec(t)?.[0])).toEqual(["rosters", "parcels", "sales"]);
  expect(shown[1]).toContain("42 %");
  expect(shown[1]).toContain("from 18 such days");
  expect(shown[2]).toContain("met Wed 17 Jun 05:10");
});

test("where all stand alike one word says it", async () => {
  served([promise("a", "on pace"), promise("b", "on pace")]);
  at("/slas", <SLAsPage />);
  await expect.poll(here).toBe("Of 2 promises all are on pace.");
});

test("a chance that was learned from nothing is not passed off as one", async () => {
  served([promise("parcels", "on pace", { learned_from: 0 })]);
  at("/slas", <SLAsPage />);
  expect((await screen.findByRole("article")).textContent).toContain("no such day is known yet");
});

test("how each promise was kept is listed by month, and days that were missed stand out", async () => {
  served([
    promise("parcels", "on pace", {
      months: [
        { month: "2026-05", met: 19, due: 21, share: 0.9 },
        { month: "2026-06", met: 12, due: 12, share: 1 },
      ],
      windows: [
        { day: "2026-06-15T00:00:00Z", standing: "met", have: 6, at_least: 5 },
        { day: "2026-06-16T00:00:00Z", standing: "missed", have: 2, at_least: 5 },
      ] as Promised["windows"],
    }),
  ]);
  at("/slas", <SLAsPage />);
  expect((await screen.findByText("19 of 21")).className).toContain("font-[650]");
  expect(screen.getByText("12 of 12").className).not.toContain("font-[650]");
  expect(screen.getByLabelText("1 of the last 2 windows were missed")).toBeTruthy();
});

test("a window that ends before it begins ends on the next day", async () => {
  const asked = served([], { "POST /slas": { body: {} } });
  at("/slas", <SLAsPage />);
  const form = await screen.findByRole("form", { name: "new SLA" });
  await userEvent.type(within(form).getByLabelText("Name"), "night parcels");
  await userEvent.type(within(form).getByLabelText("At least"), "5");
  fireEvent.change(form.querySelector("[name=from]")!, { target: { value: "22:00" } });
  fireEvent.change(form.querySelector("[name=by]")!, { target: { value: "06:30" } });
  await screen.findByText("landing.parcels", { ignore: "option" }).catch(() => null);
  await userEvent.click(within(form).getByRole("button", { name: /Add|Promise|Keep/ }));
  await expect
    .poll(() => asked.find((a) => a.method === "POST")?.body)
    .toMatchObject({
      name: "night parcels",
      at_least: 5,
      counts: "rows",
      days: "mon-fri",
      from_minute: 22 * 60,
      to_minute: 390 + 1440,
    });
});

test("a promise is removed only after a second word", async () => {
  const asked = served([promise("parcels", "met")], { "DELETE /slas/parcels": { body: {} } });
  at("/slas", <SLAsPage />);
  await userEvent.click(await screen.findByText("remove"));
  expect(screen.getByRole("alertdialog").textContent).toContain("The promise goes with its past");
  await userEvent.click(screen.getByText("Leave it"));
  expect(asked.some((a) => a.method === "DELETE")).toBe(false);
  await userEvent.click(screen.getByText("remove"));
  await userEvent.click(screen.getByText("Remove it"));
  await expect.poll(() => asked.some((a) => a.method === "DELETE")).toBe(true);
});
