import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { ComparisonSummary } from "../../api/client";
import { address, at, here, serve } from "../../test/served";
import { DriftsPage } from "./DriftsPage";

const feature = (name: string, more: object = {}) => ({
  name,
  kind: "number",
  role: "feature",
  why: "",
  ...more,
});

const comparison = (name: string, over: number | null, more: object = {}) =>
  ({
    name,
    sentence: `${name} against its first weeks`,
    dataset: "ml.noshow",
    zone: "UTC",
    state: "done",
    settings: { period: "week", score: "" },
    features: [feature("age"), feature("fare"), feature("id", { why: "a key" })],
    periods: 12,
    over: [0, 0, over ?? 0],
    last:
      over === null
        ? null
        : {
            from: "2026-06-08T00:00:00Z",
            to: "2026-06-15T00:00:00Z",
            found: { over, rows: 12_400, separability: { score: 0.71, limit: 0.55 } },
          },
    ...more,
  }) as unknown as ComparisonSummary;

const served = (list: ComparisonSummary[], more: Parameters<typeof serve>[0] = {}) =>
  serve({
    "GET /drift": { body: list },
    "GET /datasets": { body: [{ dataset: { name: "ml.noshow" } }, { dataset: { name: "ml.fares" } }] },
    ...more,
  });

const card = (name: string) => document.querySelector<HTMLElement>(`[data-comparison=${name}]`)!;

test.each<[string, ComparisonSummary[]]>([
  ["Nothing is compared yet: say which rows should stay as they were.", []],
  ["Nothing has drifted in 2 comparisons.", [comparison("a", 0), comparison("b", 0)]],
  ["One of 2 comparisons has drifted: a.", [comparison("a", 2), comparison("b", 0)]],
  ["Two of 3 comparisons have drifted: a, c.", [comparison("a", 2), comparison("b", 0), comparison("c", 1)]],
  ["The one comparison has drifted: a.", [comparison("a", 1)]],
  ["Both comparisons have drifted: a, b.", [comparison("a", 1), comparison("b", 1)]],
  ["All 3 comparisons have drifted: a, b, c.", [comparison("a", 1), comparison("b", 1), comparison("c", 1)]],
  ["Nothing has drifted in 1 comparison.", [comparison("a", null)]],
])("%s", async (says, list) => {
  served(list);
  at("/drift", <DriftsPage />);
  await expect.poll(here).toBe(says);
});

test("how the last period of each stands, and how far its rows can be told apart", async () => {
  served([
    comparison("a", 2),
    comparison("b", 0, {
      last: { from: "2026-06-08T00:00:00Z", to: "2026-06-15T00:00:00Z", found: { over: 0, rows: 900 } },
    }),
    comparison("c", null),
    comparison("d", null, { state: "failed" }),
  ]);
  at("/drift", <DriftsPage />);
  await screen.findByText("a against its first weeks", { exact: false });
  expect(within(card("a")).getByText("drifted")).toBeTruthy();
  expect(card("a").textContent).toContain("8 to 14 Jun, 12,400 rows");
  expect(within(card("a")).getByText("0.71").className).toContain("text-verm");
  expect(card("a").textContent).toContain("2 features, 12 weeks"); // a key is none
  expect(within(card("b")).getByText("as expected")).toBeTruthy();
  expect(card("b").textContent).not.toContain("separability");
  expect(within(card("c")).getByText("computing")).toBeTruthy();
  expect(within(card("d")).getByText("failed")).toBeTruthy();
});

test("how many features were over in each period is drawn, what is over in colour", async () => {
  served([comparison("a", 2)]);
  at("/drift", <DriftsPage />);
  const bars = await screen.findByRole("img", { name: "2 of 2 features over their limits in the last week" });
  const fills = [...bars.querySelectorAll("rect")].map((r) => [
    r.getAttribute("fill"),
    r.getAttribute("height"),
  ]);
  expect(fills).toEqual([
    ["var(--pewter2)", "1"],
    ["var(--pewter2)", "1"],
    ["var(--verm-mark)", "24"],
  ]);
});

test("a comparison is removed only after a second word, which says what stays", async () => {
  const asked = served([comparison("a", 0)], { "DELETE /drift/a": { body: {} } });
  at("/drift", <DriftsPage />);
  await userEvent.click(await screen.findByText("remove"));
  expect(screen.getByRole("alertdialog").textContent).toContain("Its series and their alerts stay.");
  await userEvent.click(screen.getByText("Remove it"));
  await expect.poll(() => asked.some((a) => a.method === "DELETE")).toBe(true);
});

test("first the columns are looked at, then those that are left are compared", async () => {
  const proposal = comparison("noshow", null, {
    features: [
      feature("age"),
      feature("answer", { role: "score" }),
      feature("id", { why: "a key: all differ" }),
    ],
  });
  const asked = served([comparison("a", 0)], {
    "POST /drift/proposals": { body: proposal },
    "POST /drift": { body: proposal },
  });
  at("/drift", <DriftsPage />);
  await screen.findByText("a against its first weeks", { exact: false });
  await userEvent.keyboard("a");
  const form = await screen.findByRole("form", { name: "new comparison" });
  await userEvent.type(within(form).getByLabelText("Name"), "noshow");
  await userEvent.type(within(form).getByLabelText(/^Time column/), " at ");
  await userEvent.type(within(form).getByLabelText(/^Moving reference/), "28");
  await userEvent.click(within(form).getByRole("button", { name: "Look at its columns" }));
  const id = await within(form).findByRole("checkbox", { name: /id/ });
  expect(id.hasAttribute("disabled")).toBe(true);
  expect(within(form).getByText("the model's answer")).toBeTruthy();
  expect(within(form).getByText("a key: all differ")).toBeTruthy();
  await userEvent.click(within(form).getByRole("checkbox", { name: /age/ }));
  await userEvent.click(within(form).getByRole("button", { name: "Compare these" }));
  await expect.poll(address).toBe("/drift/noshow");
  const [looked, kept] = asked.filter((a) => a.method === "POST");
  expect(looked).toMatchObject({ path: "/drift/proposals", body: { name: "noshow", leave_out: [] } });
  expect(kept).toMatchObject({
    path: "/drift",
    body: { name: "noshow", time_column: "at", period: "week", reference_days: 28, leave_out: ["age"] },
  });
});

test("what is refused stands beside its field, and the form keeps what was typed", async () => {
  served([], {
    "POST /drift/proposals": {
      status: 422,
      body: {
        detail: "validation failed",
        errors: [{ location: "body.time_column", message: "ml.noshow has no column of that name" }],
      },
    },
  });
  at("/drift", <DriftsPage />);
  const form = await screen.findByRole("form", { name: "new comparison" }); // open, as there is none
  await userEvent.type(within(form).getByLabelText("Name"), "noshow");
  await userEvent.type(within(form).getByLabelText(/^Time column/), "wen");
  await userEvent.click(within(form).getByRole("button", { name: "Look at its columns" }));
  const wrong = await within(form).findByRole("alert");
  expect(wrong.closest("label")?.textContent).toMatch(/^Time column/);
  expect(within(form).getByLabelText<HTMLInputElement>(/^Time column/).value).toBe("wen");
  expect(within(form).getByRole("button", { name: "Look at its columns" })).toBeTruthy();
});
