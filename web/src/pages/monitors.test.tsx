import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Card, Monitor } from "../api/client";
import { address, at, here, serve } from "../test/served";
import { MonitorsPage } from "./MonitorsPage";

const day = 86_400;

const monitor = (name: string, more: Partial<Monitor> = {}) =>
  ({
    id: name.length,
    name,
    dataset: `raw.${name}`,
    owner: "mara",
    tags: [],
    inherited: [],
    paused: false,
    version: 3,
    learned_at: "2026-06-01T00:00:00Z",
    settings: { method: "seasonal", direction: "both", warn_seconds: 365 * day },
    ...more,
  }) as unknown as Monitor;

const figure = (k: number, n: number) => ({ k, n, estimate: n ? k / n : null, low: n ? 0.1 : null, high: 1 });

const card = (name: string, more: object = {}) =>
  ({
    monitor: name,
    stated_seconds: 365 * day,
    achieved: {
      groups: 1,
      seconds: 200 * day,
      shortest_seconds: 36 * day,
      longest_seconds: 8000 * day,
      groups_if_all_noise: 1,
      seconds_if_all_noise: 200 * day,
    },
    precision: figure(8, 9),
    recall: figure(3, 4),
    delay_seconds: { estimate: 3600, low: 600, high: 7200 },
    ...more,
  }) as unknown as Card;

const served = (monitors: Monitor[], cards: Card[]) =>
  serve({ "GET /monitors": { body: monitors }, "GET /scorecard": { body: { monitors: cards } } });

const row = (name: string) => screen.getByRole("link", { name }).closest("tr")!;

test("what a monitor states stands beside what it has kept", async () => {
  served([monitor("gates"), monitor("tickets")], [card("gates")]);
  at("/monitors", <MonitorsPage />);
  await expect.poll(here).toBe("Two monitors; none cries wolf more often than it states.");
  await expect.poll(() => row("gates").textContent).toContain("1 in 200 d");
  expect(row("gates").textContent).toContain("1 in 1 y");
  expect(row("gates").textContent).toContain("36 d to 21.9 y");
  expect(row("gates").textContent).toContain("3 of 4");
  expect(row("tickets").textContent).not.toContain("of 4");
});

test("one that rings more often than stated, beyond chance, stands out", async () => {
  const much = {
    achieved: {
      groups: 20,
      seconds: 9 * day,
      shortest_seconds: 6 * day,
      longest_seconds: 15 * day,
      groups_if_all_noise: 30,
      seconds_if_all_noise: 5 * day,
    },
  };
  served([monitor("gates"), monitor("tickets")], [card("gates", much), card("tickets")]);
  at("/monitors", <MonitorsPage />);
  await expect.poll(here).toBe("Two monitors; one cried wolf more often than stated.");
  expect(within(row("gates")).getByText("1 in 9 d").className).toContain("text-verm");
  expect(within(row("tickets")).getByText("1 in 200 d").className).not.toContain("text-verm");
  expect(screen.getByTitle("if all that is unlabelled were noise").textContent).toBe("1 in 5 d");
});

test("one that has told nothing yet says how long it has told nothing", async () => {
  const none = {
    achieved: {
      groups: 0,
      seconds: null,
      shortest_seconds: 10 * day,
      longest_seconds: null,
      groups_if_all_noise: 0,
      seconds_if_all_noise: null,
    },
    precision: figure(0, 0),
    recall: figure(0, 0),
    delay_seconds: { estimate: null },
  };
  served([monitor("gates", { paused: true })], [card("gates", none)]);
  at("/monitors", <MonitorsPage />);
  await expect.poll(() => row("gates").textContent).toContain("none in 37 d");
  expect(row("gates").textContent).toContain("gates (paused)");
});

test("without a monitor it says how one is added, and with a filter that nothing fits", async () => {
  served([], []);
  const { unmount } = at("/monitors", <MonitorsPage />);
  expect(await screen.findByText("tinbell monitor add NAME METRIC")).toBeTruthy();
  expect(here()).toBe("No monitor yet.");
  unmount();
  served([monitor("gates", { tags: ["night"] })], []);
  at("/monitors?find=day", <MonitorsPage />);
  expect(await screen.findByText("Nothing fits the filter.")).toBeTruthy();
  await userEvent.clear(screen.getByRole("searchbox"));
  await userEvent.type(screen.getByRole("searchbox"), "night");
  expect(address()).toBe("/monitors?find=night");
  expect(row("gates")).toBeTruthy();
});

test("figures sort the largest first, then the other way, then as they come", async () => {
  served(
    [monitor("a"), monitor("bb"), monitor("ccc")],
    [card("a"), card("bb", { recall: figure(4, 4) }), card("ccc", { recall: figure(0, 0) })],
  );
  at("/monitors", <MonitorsPage />);
  await screen.findByText("3 of 4");
  const order = () =>
    screen
      .getAllByRole("row")
      .slice(1)
      .map((r) => within(r).getAllByRole("link")[0].textContent);
  await userEvent.click(screen.getByRole("button", { name: "found" }));
  expect(order()).toEqual(["bb", "a", "ccc"]);
  await userEvent.click(screen.getByRole("button", { name: /found/ }));
  expect(order()).toEqual(["a", "bb", "ccc"]); // what has none stays last
  expect(screen.getByRole("columnheader", { name: /found/ }).getAttribute("aria-sort")).toBe("ascending");
  await userEvent.click(screen.getByRole("button", { name: /found/ }));
  expect(address()).toBe("/monitors");
});

test("what is put away can be shown, and the address keeps it", async () => {
  served([monitor("gates", { version: 7, learned_at: null }), monitor("sales", { version: 7 })], []);
  at("/monitors", <MonitorsPage />);
  await screen.findByRole("link", { name: "gates" });
  expect(screen.queryByText("not fitted")).toBeNull();
  await userEvent.click(screen.getByRole("button", { name: "Choose columns" }));
  await userEvent.click(screen.getByRole("checkbox", { name: "version" }));
  expect(address()).toBe("/monitors?columns=version");
  expect(row("gates").textContent).toContain("not fitted");
  expect(row("sales").textContent).toMatch(/7$/);
  expect(screen.getByRole("checkbox", { name: "monitor" }).hasAttribute("disabled")).toBe(true);
});
