import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, test } from "vitest";
import type { Sentence } from "../../api/client";
import { at, here, serve } from "../../test/served";
import { SentencePage } from "./SentencePage";

const sentence = (more: object = {}) =>
  ({
    log: "gates",
    dataset: "raw.gate_events",
    number: 7,
    severity: "WARN",
    text: "slow answer of <duration> from <host>",
    gist: "slow answer of <duration>",
    lines: 412,
    zone: "UTC",
    first_at: "2026-06-01T06:00:00Z",
    last_at: "2026-06-17T08:00:00Z",
    merged_into: 0,
    became_part: [],
    usual: false,
    followed: false,
    files: false,
    samples: [{ at: "2026-06-17T08:00:00Z", line: "WARN slow answer of 930 ms from ***" }],
    values: [],
    by: [],
    changes: [],
    hours: [
      { at: "2026-06-17T05:00:00Z", lines: 4 },
      { at: "2026-06-17T08:00:00Z", lines: 10 },
    ],
    ...more,
  }) as unknown as Sentence;

function open(of: Sentence, more: Parameters<typeof serve>[0] = {}) {
  const asked = serve({
    "GET /logs/gates/templates/7": { body: of },
    "GET /logs/gates/templates/7/goes-with": {
      body: { sentence: "It goes with nothing.", kin: [], runs: [], alerts: [] },
    },
    ...more,
  });
  at(
    "/logs/gates/7",
    <Routes>
      <Route path="/logs/:name/:number" element={<SentencePage />} />
    </Routes>,
  );
  return asked;
}

test("when it came, how often at most, and hours without it stay empty", async () => {
  open(sentence());
  await expect.poll(here).toBe("“slow answer of …” came 412 times since Mon 1 Jun 06:00.");
  expect(screen.getByText(/at most 10 an hour/)).toBeTruthy();
  const bars = document.querySelectorAll("[data-hours] rect");
  expect(bars).toHaveLength(2);
  const [a, b] = [...bars].map((r) => Number(r.getAttribute("x")));
  expect(b - a).toBe(675); // three of four hours later, over 900
  expect(Number(bars[0].getAttribute("height"))).toBeLessThan(Number(bars[1].getAttribute("height")));
});

test("without a line for two weeks nothing is drawn", async () => {
  open(sentence({ hours: [], samples: [] }));
  expect(await screen.findByText("No line in the last two weeks.")).toBeTruthy();
  expect(screen.getByText("None is kept.")).toBeTruthy();
});

test("what it became part of, and what became part of it, is said", async () => {
  open(sentence({ merged_into: 3, became_part: [11, 12] }));
  expect((await screen.findByText("sentence 3")).getAttribute("href")).toBe("/logs/gates/3");
  expect(screen.getByText(/Sentences 11, 12 became part of it/)).toBeTruthy();
});

test("it is no news, and followed, with one press each", async () => {
  const asked = open(sentence(), { "PATCH /logs/gates/templates/7": { body: {} } });
  await userEvent.click(await screen.findByRole("button", { name: "It is no news" }));
  await expect.poll(() => asked.filter((a) => a.method === "PATCH").length).toBe(1);
  await userEvent.click(screen.getByRole("button", { name: "Follow it" }));
  await expect
    .poll(() => asked.filter((a) => a.method === "PATCH").map((a) => a.body))
    .toEqual([{ usual: true }, { followed: true }]);
});

test("what somebody decided can be taken back", async () => {
  open(sentence({ usual: true, followed: true }));
  expect(await screen.findByRole("button", { name: "It is news after all" })).toBeTruthy();
  expect(screen.getByRole("button", { name: "Follow it no longer" })).toBeTruthy();
  expect(screen.getByText("log-gates-sentences")).toBeTruthy();
});

test("a correction is sent with what it is about, and says what came of it", async () => {
  const asked = open(sentence(), {
    "POST /logs/gates/templates/7/correct": { body: { sentence: "Sentence 9 is part of 7 now." } },
  });
  const send = await screen.findByRole("button", { name: "Join" });
  const text = screen.getByLabelText("the number of the other sentence");
  await userEvent.type(text, "nine");
  expect(send.hasAttribute("disabled")).toBe(true); // no number
  await userEvent.clear(text);
  await userEvent.type(text, "9");
  await userEvent.click(send);
  expect((await screen.findByRole("status")).textContent).toBe("Sentence 9 is part of 7 now.");
  await userEvent.click(screen.getByRole("radio", { name: "hold" }));
  await userEvent.type(screen.getByLabelText("the word"), "slow");
  await userEvent.click(screen.getByRole("button", { name: "Hold" }));
  await expect
    .poll(() => asked.filter((a) => a.method === "POST").map((a) => a.body))
    .toEqual([
      { what: "join", with: 9 },
      { what: "hold", word: "slow" },
    ]);
});

test("earlier corrections are listed in words", async () => {
  const at = "2026-06-10T00:00:00Z";
  open(
    sentence({
      changes: [
        { at, what: "held", part: 2, author: "mara", number: 7, other: 0 },
        { at, what: "varied", part: 3, author: "jon", number: 7, other: 0 },
        { at, what: "joined", part: 0, author: "mara", number: 9, other: 7 },
        { at, what: "became", part: 0, author: "", number: 11, other: 7 },
      ],
    }),
  );
  await screen.findByText(/part 2 held constant by mara/);
  expect(screen.getAllByRole("listitem").map((l) => l.textContent)).toEqual([
    "Wed 10 Jun: part 2 held constant by mara",
    "Wed 10 Jun: part 3 varies, by jon",
    "Wed 10 Jun: 9 made part of 7 by mara",
    "Wed 10 Jun: 11 became part of 7",
  ]);
});

test("what varies in it: numbers by their middle and ends, words by the most frequent", async () => {
  const day = (d: number, median: number) => ({
    day: `2026-06-1${d}T00:00:00Z`,
    least: median - 5,
    low: median - 2,
    median,
    high: median + 2,
    most: median + 50,
  });
  const part = (n: number, more: object) => ({
    part: n,
    kind: "number",
    before: "",
    distinct: 40,
    lines: 100,
    numbers: 0,
    top: [],
    days: [],
    ...more,
  });
  open(
    sentence({
      values: [
        part(1, { numbers: 99, before: "of", days: [day(1, 20), day(2, 26)] }),
        part(2, { kind: "word", top: [{ value: "north", lines: 60 }] }),
        part(3, { kind: "id", distinct: 100, top: [{ value: "a1", lines: 1 }] }),
      ],
    }),
  );
  const rows = [...(await screen.findByText("north (60 %)")).closest("tbody")!.querySelectorAll("tr")].map(
    (r) => [...r.querySelectorAll("td")].map((c) => c.textContent),
  );
  expect(rows[0].slice(1, 6)).toEqual(["of", "40", "26", "15", "76"]);
  expect(rows[1].slice(3, 6)).toEqual(["north (60 %)", "", ""]);
  expect(rows[2][3]).toBe("no two alike");
  expect(screen.getByRole("img", { name: "its median by day, Thu 11 Jun to Fri 12 Jun" })).toBeTruthy();
});

test("what goes with it: sentences with their lag, runs and alerts", async () => {
  open(sentence(), {
    "GET /logs/gates/templates/7/goes-with": {
      body: {
        sentence: "It goes with 2 sentences.",
        kin: [
          { number: 4, correlation: 0.91, lag_seconds: 0, severity: "INFO", gist: "a" },
          { number: 5, correlation: -0.62, lag_seconds: -3600, severity: "ERROR", gist: "b" },
        ],
        runs: [
          { job: "load-gates", state: "failed", runs: 3, with: 2 },
          { job: "load-gates", state: "done", runs: 40, with: 0 },
        ],
        alerts: [{ dataset: "raw.gate_events", hours: 5, with: 4, else: 0.02 }],
      },
    },
  });
  const kin = [...(await screen.findByText("0.91")).closest("tbody")!.querySelectorAll("tr")].map(
    (r) => r.textContent,
  );
  expect(kin[0]).toContain("at once");
  expect(kin[1]).toContain("−0.621 h earlier");
  expect(screen.getByText("In 2 of 3 failed runs of load-gates.")).toBeTruthy();
  expect(screen.getByText(/had an alert, and in 2 % of the others/)).toBeTruthy();
});

test("lines are read from its files only when somebody asks, and what fails is said", async () => {
  const asked = open(sentence({ files: true, by: [{ attribute: "host", value: "a b", lines: 7 }] }), {
    "GET /logs/gates/templates/7/lines": {
      body: {
        sentence: "2 lines are in its files.",
        lines: [{ path: "/landing/gates.log", line: 12, text: "WARN slow" }],
      },
    },
  });
  const press = await screen.findByText("Read them from its files");
  expect(asked.some((a) => a.path.endsWith("/lines"))).toBe(false);
  await userEvent.click(press);
  const lines = (await screen.findByText(/2 lines are in its files/)).closest(
    "[data-file-lines]",
  ) as HTMLElement;
  expect(within(lines).getByText("gates.log:12")).toBeTruthy();
  expect(screen.getByRole("link", { name: "host a b" }).getAttribute("href")).toBe(
    "/logs/gates?where=host%3Da%20b",
  );
});

test("a sentence that is not there is said", async () => {
  open(sentence(), {
    "GET /logs/gates/templates/7": { status: 404, body: { detail: "gates has no sentence 7" } },
  });
  expect((await screen.findByRole("alert")).textContent).toContain("gates has no sentence 7");
});
