import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, test } from "vitest";
import type { Differs, Log, Said } from "../../api/client";
import { address, at, here, serve } from "../../test/served";
import { LogsPage } from "./LogsPage";

const now = "2026-06-17T09:00:00Z";
const week = 7 * 86_400;

const log = (name: string, more: Partial<Log> = {}) =>
  ({
    name,
    dataset: "raw.gate_events",
    job: "load-gates",
    service: "",
    zone: "UTC",
    metric: `log-${name}`,
    lines: 12_400,
    templates: 31,
    overflow: 0,
    keep_samples: 3,
    first_at: "2026-05-01T00:00:00Z",
    last_at: "2026-06-17T08:59:00Z",
    source: "",
    pattern: "",
    by: [],
    masked: [],
    watched: ["ERROR", "FATAL"],
    kinds: ["new"],
    rare_seconds: week,
    ...more,
  }) as unknown as Log;

const said = (number: number, more: Partial<Said> = {}) =>
  ({
    number,
    count: 100 * number,
    share: 0.1 * number,
    severity: "INFO",
    gist: `loaded <number> rows from file ${number}`,
    bins: [0, 3, 4],
    first_at: "2026-05-02T00:00:00Z",
    usual: false,
    ...more,
  }) as unknown as Said;

const differs = (number: number, way: Differs["way"], more: Partial<Differs> = {}) =>
  ({
    number,
    way,
    now: 40,
    before: 2,
    expected: 3.2,
    severity: "WARN",
    gist: "slow answer of <duration>",
    ...more,
  }) as unknown as Differs;

function open(
  path: string,
  given: { of?: Log; templates?: Said[]; differ?: Differs[] },
  more: Parameters<typeof serve>[0] = {},
) {
  const of = given.of ?? log("gates");
  const asked = serve({
    "GET /me": { body: { now } },
    "GET /logs": { body: [of, log("tickets", { templates: 1 })] },
    "GET /logs/gates/templates": {
      body: {
        log: of,
        lines: 12_400,
        errors: 7,
        sentence: "Nothing is said that was not said before.",
        templates: given.templates ?? [],
      },
    },
    "GET /logs/gates/compare": {
      body: {
        sentence: "One sentence comes more often.",
        from: "2026-06-17T08:00:00Z",
        to: "2026-06-17T09:00:00Z",
        against_from: "2026-06-16T08:00:00Z",
        differ: given.differ ?? [],
      },
    },
    "GET /log-sentences": { body: { sentences: [] } },
    ...more,
  });
  at(
    path,
    <Routes>
      <Route path="/logs" element={<LogsPage />} />
      <Route path="/logs/:name" element={<LogsPage />} />
    </Routes>,
  );
  return asked;
}

test("without a name the first log is open, and all are listed", async () => {
  open("/logs", { templates: [said(1)] });
  await expect.poll(here).toBe("Nothing is said that was not said before.");
  expect(screen.getByRole("button", { pressed: true, name: /gates/ })).toBeTruthy();
  expect(screen.getByText("1 sentence")).toBeTruthy();
  expect(screen.getByText(/12,400 lines, 7 of them errors/)).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: /tickets/ }));
  expect(address()).toBe("/logs/tickets");
});

test("an error that was never said before is the page's sentence, what varies left open", async () => {
  const fresh = said(9, {
    severity: "ERROR",
    gist: "no rights on <path>",
    count: 4,
    first_at: "2026-06-17T07:30:00Z",
  });
  open("/logs/gates", { templates: [said(1), fresh] });
  await expect
    .poll(here)
    .toBe("gates says what it never said: “no rights on …”, 4 lines since Wed 17 Jun 07:30.");
});

test.each<[string, Partial<Said>, Partial<Log>]>([
  ["somebody said that it is no news", { usual: true }, {}],
  ["it is no error", { severity: "WARN" }, {}],
  ["it came the day before yesterday", { first_at: "2026-06-15T07:30:00Z" }, {}],
  ["the log itself is new", {}, { first_at: "2026-06-17T06:00:00Z" }],
])("a sentence is no news where %s", async (_, more, of) => {
  const one = said(9, { severity: "ERROR", first_at: "2026-06-17T07:30:00Z", ...more });
  open("/logs/gates", { of: log("gates", of), templates: [one] });
  await expect.poll(here).toBe("Nothing is said that was not said before.");
});

test("sentences are listed with their share, and lead to their page", async () => {
  open("/logs/gates", { templates: [said(2), said(3, { severity: "FATAL" })] });
  await screen.findByText("fatal", { selector: "td span" });
  const list = within(document.querySelector<HTMLElement>("[data-sentences]")!);
  expect(list.getAllByRole("link").map((l) => l.getAttribute("href"))).toEqual([
    "/logs/gates/2",
    "/logs/gates/3",
  ]);
  expect(list.getByText("20 %")).toBeTruthy();
  expect(list.getByText("fatal").className).toContain("text-verm");
  expect(list.getAllByRole("img", { name: "7 lines, by time" })).toHaveLength(2);
});

test("what differs is called by how, with what was expected", async () => {
  open("/logs/gates", {
    differ: [differs(4, "more"), differs(5, "new", { before: 0, expected: 0 }), differs(6, "vanished")],
  });
  const rows = [...(await screen.findByText("more often")).closest("tbody")!.querySelectorAll("tr")].map(
    (r) => r.textContent,
  );
  expect(rows[0]).toContain("more often4023.2warn");
  expect(rows[1]).toContain("never said before");
  expect(rows[2]).toContain("no longer said");
  expect(screen.getByText("One sentence comes more often.")).toBeTruthy();
});

test("stretches, severity and words stand in the address and are asked for", async () => {
  open("/logs/gates?where=host%3Da", { templates: [] });
  expect(await screen.findByText("No line came that fits.")).toBeTruthy();
  await userEvent.click(screen.getByRole("radio", { name: "week" }));
  await userEvent.click(screen.getByRole("radio", { name: "error" }));
  await userEvent.click(screen.getByRole("radio", { name: "6 h" }));
  await userEvent.click(screen.getByRole("radio", { name: "month before" }));
  await userEvent.type(screen.getByLabelText("With the words"), "di");
  const asked = new URLSearchParams(address().split("?")[1]);
  expect(Object.fromEntries(asked)).toEqual({
    where: "host=a",
    hours: "168",
    severity: "ERROR",
    span: "6",
    against: "month",
    words: "di",
  });
  await userEvent.click(screen.getByRole("button", { name: /host is a/ }));
  expect(address()).not.toContain("where");
  await userEvent.click(screen.getByRole("radio", { name: "all" }));
  expect(address()).not.toContain("severity");
});

test("words are looked for in the other logs too", async () => {
  open(
    "/logs/gates?words=disk",
    { templates: [said(1)] },
    {
      "GET /log-sentences": {
        body: {
          sentences: [
            { log: "gates", number: 1, count: 9, gist: "disk here" },
            { log: "tickets", number: 8, count: 12, gist: "disk <number> is full" },
          ],
        },
      },
    },
  );
  const elsewhere = (await screen.findByText("In other logs")).parentElement!;
  expect(
    within(elsewhere)
      .getAllByRole("link")
      .map((l) => l.getAttribute("href")),
  ).toEqual(["/logs/tickets/8"]);
});

test("what is told is changed one by one; the last kind cannot be taken away", async () => {
  const asked = open("/logs/gates", {}, { "PATCH /logs/gates": { body: {} } });
  const warn = await screen.findByLabelText("warn");
  expect(screen.getByLabelText("it never said").hasAttribute("disabled")).toBe(true);
  await userEvent.click(warn);
  await expect.poll(() => asked.filter((a) => a.method === "PATCH").length).toBe(1);
  await userEvent.click(screen.getByLabelText("it no longer says"));
  await expect.poll(() => asked.filter((a) => a.method === "PATCH").length).toBe(2);
  await userEvent.click(screen.getByRole("radio", { name: "14 d" }));
  await expect
    .poll(() => asked.filter((a) => a.method === "PATCH").map((a) => a.body))
    .toEqual([
      { watched: ["ERROR", "FATAL", "WARN"] },
      { kinds: ["new", "vanished"] },
      { rare_seconds: 2 * week },
    ]);
});

test("what is kept of a log is said: where its files land, what is masked, what found no place", async () => {
  const of = log("gates", {
    source: "landing",
    pattern: "gates-*.log",
    by: ["host"],
    masked: ["ticket="],
    overflow: 1200,
  });
  open("/logs/gates", { of });
  expect(await screen.findByText("gates-*.log")).toBeTruthy();
  expect(screen.getByText("Counted apart by host.")).toBeTruthy();
  expect(screen.getByText("Masked is also what follows or fits ticket=.")).toBeTruthy();
  expect(screen.getByText(/1,200 lines came after/)).toBeTruthy();
});

test("where no log is read it is said how one is", async () => {
  open("/logs", {}, { "GET /logs": { body: [] } });
  await expect.poll(here).toBe("No log is read yet.");
  expect(screen.getByText(/tinbell log push/)).toBeTruthy();
});
