import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, test } from "vitest";
import type { Tag } from "../api/client";
import { Tags } from "../parts/Tags";
import { at, here, serve } from "../test/served";
import { TagPage, TagsPage } from "./TagsPage";

const tag = (name: string, open_alerts = 0, more: Partial<Tag> = {}) => ({
  name,
  datasets: ["raw.gate_events"],
  metrics: [],
  monitors: ["gates"],
  open_alerts,
  channels: [],
  routes: [],
  ...more,
});

const one = (
  <Routes>
    <Route path="/tags/:name" element={<TagPage />} />
  </Routes>
);

test("the list of tags says on which of them alerts are open", async () => {
  serve({ "GET /tags": { body: [tag("gates", 2), tag("fares")] } });
  at("/tags", <TagsPage />);
  await screen.findByText("fares");
  expect(here()).toBe("Two tags; alerts are open on gates.");
  expect(screen.getByText("2").getAttribute("href")).toBe("/alerts?show=open&tag=gates");
});

test("without a tag, what tags are for is said", async () => {
  serve({ "GET /tags": { body: [] } });
  at("/tags", <TagsPage />);
  await expect.poll(here).toBe("Nothing is tagged yet.");
  expect(screen.queryByRole("table")).toBeNull();
});

test("a tag's page says how it stands, how good its alerts were, and who hears of it", async () => {
  serve({
    "GET /tags": { body: [tag("gates", 1, { routes: ["nights"], channels: ["pager"] })] },
    "GET /scorecard": {
      body: { overall: { precision: { estimate: 0.8, low: 0.5, high: 0.9, k: 8, n: 10 } }, monitors: [] },
    },
    "GET /alerts": { body: { alerts: [] } },
  });
  at("/tags/gates", one);
  await expect
    .poll(here)
    .toBe("Of what is tagged gates, one alert is open; 80 % of its labelled alerts were worth waking for.");
  expect(screen.getByText(/Told on pager by the/).textContent).toContain("nights");
  expect(screen.getByText("No alert so far.")).toBeTruthy();
});

test("where nothing is labelled nothing is claimed about precision, and a route is proposed", async () => {
  serve({
    "GET /tags": { body: [tag("gates")] },
    "GET /scorecard": { body: { overall: { precision: { estimate: null, k: 0, n: 0 } }, monitors: [] } },
    "GET /alerts": { body: { alerts: [] } },
  });
  at("/tags/gates", one);
  await expect.poll(here).toBe("Of what is tagged gates, nothing is alerted.");
  expect(screen.getByText(/No route tells of it in particular/)).toBeTruthy();
});

test("a tag that nothing has is said to be one", async () => {
  serve({ "GET /tags": { body: [tag("gates")] } });
  at("/tags/berths", one);
  await expect.poll(here).toBe("Nothing is tagged berths.");
});

test("a tag is added by Enter and taken off by its cross; one that comes from above has none", async () => {
  const asked = serve({
    "GET /tags": { body: [tag("gates"), tag("fares")] },
    "PATCH /tags/berths": { body: {} },
    "PATCH /tags/fares": { body: {} },
  });
  at("/", <Tags kind="monitors" name="gates-volume" tags={["fares"]} inherited={["gates", "fares"]} />);
  expect(screen.queryByLabelText("take the tag gates off")).toBeNull();
  expect(screen.getAllByText("fares")).toHaveLength(1);
  await userEvent.click(screen.getByText("add a tag"));
  await userEvent.type(screen.getByLabelText("Tag"), " berths {Enter}");
  await expect
    .poll(() => asked.filter((a) => a.method === "PATCH").map((a) => [a.path, a.body]))
    .toEqual([["/tags/berths", { on: { monitors: ["gates-volume"] } }]]);
  await userEvent.click(screen.getByLabelText("take the tag fares off"));
  await expect
    .poll(() => asked.filter((a) => a.path === "/tags/fares").map((a) => a.body))
    .toEqual([{ off: { monitors: ["gates-volume"] } }]);
});

test("a name that is no tag is refused beside the field", async () => {
  serve({
    "GET /tags": { body: [] },
    "PATCH /tags/a,b": { status: 422, body: { detail: "tag: no commas" } },
    "PATCH /tags/a%2Cb": { status: 422, body: { detail: "tag: no commas" } },
  });
  at("/", <Tags kind="datasets" name="raw.gate_events" tags={[]} />);
  expect(screen.getByText("no tag")).toBeTruthy();
  await userEvent.click(screen.getByText("add a tag"));
  await userEvent.type(screen.getByLabelText("Tag"), "a,b{Enter}");
  expect((await screen.findByRole("alert")).textContent).toBe("tag: no commas");
});

test("Escape leaves the tags as they are", async () => {
  const asked = serve({ "GET /tags": { body: [] } });
  at("/", <Tags kind="datasets" name="raw.gate_events" tags={[]} />);
  await userEvent.click(screen.getByText("add a tag"));
  await userEvent.type(screen.getByLabelText("Tag"), "x{Escape}");
  expect(screen.getByText("add a tag")).toBeTruthy();
  expect(asked.some((a) => a.method === "PATCH")).toBe(false);
});
