import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { PlannedEvent } from "../../api/client";
import { at, here, rows, serve } from "../../test/served";
import { CalendarsPage } from "./CalendarsPage";

const now = "2026-06-17T09:00:00Z";

const event = (summary: string, from: string, to: string, more: Partial<PlannedEvent> = {}) =>
  ({
    uid: summary,
    summary,
    started_at: from,
    ended_at: to,
    dataset: "",
    effect: "mute",
    holiday: false,
    calendar: "by hand",
    ...more,
  }) as unknown as PlannedEvent;

const night = event("maintenance night", "2026-06-20T20:00:00Z", "2026-06-21T04:00:00Z", {
  dataset: "ops.sales",
});
const feast = event("Harbour Day", "2026-07-01T00:00:00Z", "2026-07-02T00:00:00Z", {
  holiday: true,
  calendar: "NL",
});
const long = event("dry dock", "2025-11-01T00:00:00Z", "2025-11-08T00:00:00Z", { effect: "widen" });
const ancient = event("refit", "2024-01-01T00:00:00Z", "2024-01-08T00:00:00Z");
const far = event("next refit", "2027-05-01T00:00:00Z", "2027-05-08T00:00:00Z");

const served = (events: PlannedEvent[], more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /planned-events": { body: events },
    "GET /calendars": { body: [] },
    "GET /calendar-feeds": { body: [] },
    "GET /planned-events/suggestions": { body: [] },
    "GET /calendars/countries": { body: ["NL", "IE"] },
    "GET /datasets": { body: [{ dataset: { name: "ops.sales" } }] },
    "GET /alerts": { body: { alerts: [] } },
    "GET /me": { body: { now } },
    ...more,
  });

test("what comes next is said, and what lies ahead is listed in order, not years ahead", async () => {
  served([feast, far, night, long, ancient]);
  at("/setup/calendars", <CalendarsPage />);
  await expect.poll(here).toBe("Next planned is maintenance night, Sat 20 Jun 20:00.");
  expect(rows()).toHaveLength(2);
  expect(rows()[0].slice(1, 6)).toEqual([
    "8 h",
    "maintenance night",
    "ops.sales",
    "neither judged nor learned from",
    "by hand",
  ]);
  expect(rows()[1].slice(2, 6)).toEqual(["Harbour Day", "all", "a day like a Sunday", "NL"]);
});

test("a day off that comes next is said as a day", async () => {
  served([feast]);
  at("/setup/calendars", <CalendarsPage />);
  await expect.poll(here).toBe("The next day off is Harbour Day, Wed 1 Jul.");
});

test("the last year is listed newest first, and what is older is not", async () => {
  served([long, event("sail race", "2026-05-01T00:00:00Z", "2026-05-02T00:00:00Z"), ancient, night]);
  at("/setup/calendars", <CalendarsPage />);
  await userEvent.click(await screen.findByRole("button", { name: "the last year" }));
  expect(rows().map((r) => r[2])).toEqual(["sail race", "dry dock"]);
  expect(rows()[1][4]).toBe("judged by a wider band, not learned from");
  expect(screen.getByRole("heading", { name: /The last year/ })).toBeTruthy();
});

test("only what was entered by hand can be removed, and only after a second word", async () => {
  const asked = served([night, feast], { "DELETE /planned-events/maintenance night": { body: {} } });
  at("/setup/calendars", <CalendarsPage />);
  await userEvent.click(await screen.findByRole("button", { name: "remove" }));
  expect(screen.getByRole("alertdialog").textContent).toContain("what it concerned is fitted again");
  await userEvent.click(screen.getByText("Leave it"));
  expect(asked.some((a) => a.method === "DELETE")).toBe(false);
  await userEvent.click(screen.getByRole("button", { name: "remove" }));
  await userEvent.click(screen.getByText("Remove it"));
  await expect.poll(() => asked.filter((a) => a.method === "DELETE").length).toBe(1);
});

test("an event is sent with its zone and emptied when it was kept", async () => {
  const asked = served([], { "POST /planned-events": { body: [{}, {}, {}] } });
  at("/setup/calendars", <CalendarsPage />);
  const form = await screen.findByRole("form", { name: "new event" });
  await userEvent.type(within(form).getByLabelText("What"), "quay closed");
  fireEvent.change(form.querySelector("[name=from]")!, { target: { value: "2026-06-20T20:00" } });
  fireEvent.change(form.querySelector("[name=to]")!, { target: { value: "2026-06-21T04:00" } });
  await userEvent.click(within(form).getByRole("button", { name: "Add event" }));
  expect((await screen.findByRole("status")).textContent).toContain("Added, 3 times");
  const sent = asked.find((a) => a.method === "POST")?.body as Record<string, string>;
  expect(sent).toMatchObject({
    summary: "quay closed",
    effect: "mute",
    repeat: "",
    dataset: "",
    zone: "UTC",
  });
  expect(Date.parse(sent.to) - Date.parse(sent.from)).toBe(8 * 3_600_000);
  expect(within(form).getByLabelText<HTMLInputElement>("What").value).toBe("");
});

test("an event that is refused says which field is wrong, and keeps what was typed", async () => {
  served([], {
    "POST /planned-events": {
      status: 422,
      body: {
        detail: "validation failed",
        errors: [{ location: "body.to", message: "it ends before it begins" }],
      },
    },
  });
  at("/setup/calendars", <CalendarsPage />);
  const form = await screen.findByRole("form", { name: "new event" });
  await userEvent.type(within(form).getByLabelText("What"), "quay closed");
  fireEvent.change(form.querySelector("[name=from]")!, { target: { value: "2026-06-21T20:00" } });
  fireEvent.change(form.querySelector("[name=to]")!, { target: { value: "2026-06-20T04:00" } });
  await userEvent.click(within(form).getByRole("button", { name: "Add event" }));
  const wrong = await within(form).findByRole("alert");
  expect(wrong.closest("label")?.textContent).toMatch(/^To/);
  expect(within(form).getByLabelText<HTMLInputElement>("What").value).toBe("quay closed");
});

test("a calendar file is sent as it is, with what its events do", async () => {
  const asked = served([], { "PUT /calendars/harbour": { body: [{}] } });
  at("/setup/calendars", <CalendarsPage />);
  const field = await screen.findByLabelText("Import an iCalendar file");
  await userEvent.upload(field, new File(["BEGIN:VCALENDAR"], "harbour.ics", { type: "text/calendar" }));
  expect((await screen.findByRole("status")).textContent).toBe("1 event imported.");
  expect(asked.find((a) => a.method === "PUT")?.body).toBe("BEGIN:VCALENDAR");
});

test("a calendar that is fetched says from where, and one that fails that the last copy stays", async () => {
  const asked = served([], {
    "GET /calendars": {
      body: [
        { name: "harbour", effect: "widen", country: "" },
        { name: "NL", effect: "mute", country: "NL" },
        { name: "rota", effect: "mute", country: "" },
      ],
    },
    "GET /calendar-feeds": {
      body: [
        { calendar: "harbour", host: "harbour.example", fetched_at: "2026-06-17T06:00:00Z" },
        {
          calendar: "rota",
          host: "rota.example",
          failing_since: "2026-06-16T06:00:00Z",
          message: "it answered 404",
        },
      ],
    },
    "POST /calendars/harbour/feed/fetch": { body: {} },
    "DELETE /calendars/rota/feed": { body: {} },
  });
  at("/setup/calendars", <CalendarsPage />);
  expect((await screen.findByText(/from harbour.example/)).textContent).toContain("Wed 17 Jun 06:00");
  expect(screen.getByText("holidays of NL")).toBeTruthy();
  expect(screen.getByText(/it answered 404; the last good copy stays/)).toBeTruthy();
  await userEvent.click(screen.getAllByText("fetch now")[0]);
  await userEvent.click(screen.getAllByText("fetch no more")[1]);
  await expect
    .poll(() => asked.filter((a) => a.method !== "GET").map((a) => `${a.method} ${a.path}`))
    .toEqual(["POST /calendars/harbour/feed/fetch", "DELETE /calendars/rota/feed"]);
});

test("what people call planned again and again is put into the calendar with one press", async () => {
  const suggestion = {
    dataset: "ops.sales",
    summary: "stock-taking",
    repeat: "FREQ=WEEKLY;BYDAY=SU",
    from: "2026-06-21T04:00:00Z",
    to: "2026-06-21T06:30:00Z",
    zone: "Europe/Amsterdam",
    seen: 4,
    due: 5,
  };
  const asked = served([], {
    "GET /planned-events/suggestions": { body: [suggestion] },
    "POST /planned-events": { body: [{}] },
  });
  at("/setup/calendars", <CalendarsPage />);
  expect((await screen.findByText(/freq=weekly, byday=su/)).textContent).toContain(
    "2 h 30 min; seen 4 of 5 times",
  );
  await userEvent.click(screen.getByText("Put into the calendar"));
  await expect
    .poll(() => asked.find((a) => a.method === "POST")?.body)
    .toEqual({
      summary: "stock-taking",
      from: suggestion.from,
      to: suggestion.to,
      dataset: "ops.sales",
      repeat: suggestion.repeat,
      zone: "Europe/Amsterdam",
    });
});

test("with nothing planned the ways to plan are named", async () => {
  served([]);
  at("/setup/calendars", <CalendarsPage />);
  await expect.poll(here).toBe("Nothing is planned ahead.");
  expect(screen.getByText("Add an event, import a calendar, or take a country's holidays.")).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: "the last year" }));
  expect(screen.getByText("Nothing was planned.")).toBeTruthy();
});
