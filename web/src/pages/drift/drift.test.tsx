import { fireEvent, render, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { describe, expect, test, vi } from "vitest";
import type { Matrix, MatrixCell, MatrixRow, PairResult } from "../../api/client";
import { address, at, here, serve } from "../../test/served";
import { DriftPage } from "./DriftPage";
import { FeaturePanel } from "./FeaturePanel";
import { MatrixGrid } from "./MatrixGrid";
import { PairsView } from "./PairsView";

const week = (n: number) => new Date(Date.UTC(2026, 4, 4 + 7 * n)).toISOString();

const cell = (ratio: number, more: Partial<MatrixCell> = {}) =>
  ({
    state: ratio > 1 ? "over" : "as expected",
    ratio,
    value: 0.1 * ratio,
    limit: 0.1,
    by: "psi",
    why: "",
    ...more,
  }) as unknown as MatrixCell;

const row = (feature: string, ratios: (number | null)[], more: Partial<MatrixRow> = {}) =>
  ({
    feature,
    role: "",
    importance: 0.5,
    cells: ratios.map((r) =>
      r === null ? cell(0, { state: "too few", why: "12 rows are too few", limit: 0 }) : cell(r),
    ),
    ...more,
  }) as unknown as MatrixRow;

const matrix = (more: object = {}) =>
  ({
    name: "noshow",
    dataset: "ml.noshow",
    zone: "UTC",
    state: "done",
    message: "",
    sentence: "Fare has drifted since 18 May",
    detail: "",
    task_id: 0,
    settings: { period: "week", reference_days: 0 },
    referred: { from: "2026-04-06T00:00:00Z", to: "2026-05-04T00:00:00Z" },
    periods: [0, 1, 2].map((n) => ({
      from: week(n),
      to: week(n + 1),
      over: n === 2 ? 1 : 0,
      state: n === 2 ? "over" : "as expected",
      versions: n === 2 ? ["4"] : ["3"],
      message: "",
      separability: { score: 0.2 + 0.2 * n, limit: 0.5, low: 0.1, high: 0.7 },
    })),
    rows: [row("age", [0.2, 0.6, 0.9]), row("fare", [0.4, null, 3])],
    ...more,
  }) as unknown as Matrix;

function open(path: string, of: Matrix, more: Parameters<typeof serve>[0] = {}) {
  const asked = serve({ "GET /drift/noshow": { body: of }, "GET /tasks": { body: [] }, ...more });
  at(
    path,
    <Routes>
      <Route path="/drift/:name" element={<DriftPage />} />
      <Route path="/alerts" element={null} />
    </Routes>,
  );
  return asked;
}

const asked = () => Object.fromEntries(new URLSearchParams(address().split("?")[1]));

describe("the page of a comparison", () => {
  test("says what drifted, against what, and how the newest period stands", async () => {
    open("/drift/noshow", matrix());
    await expect.poll(here).toBe("Fare has drifted since 18 May.");
    expect(screen.getByText(/against 6 Apr to 3 May/)).toBeTruthy();
    expect(screen.getByText("1 of 2 over, all together over, 18 to 24 May")).toBeTruthy();
  });

  test("a moving reference is said as days", async () => {
    open("/drift/noshow", matrix({ settings: { period: "week", reference_days: 28 } }));
    expect(await screen.findByText(/against the 28 days before each/)).toBeTruthy();
  });

  test("arrow keys move the frame and stop at the edges; the address keeps it", async () => {
    open("/drift/noshow", matrix());
    await expect.poll(here).not.toBe("");
    await userEvent.keyboard("{ArrowLeft}");
    expect(asked()).toEqual({ feature: "age", at: week(1) });
    await userEvent.keyboard("{ArrowDown}{ArrowDown}{ArrowLeft}{ArrowLeft}{ArrowLeft}");
    expect(asked()).toEqual({ feature: "fare", at: week(0) });
    await userEvent.keyboard("{ArrowUp}{ArrowRight}");
    expect(asked()).toEqual({ feature: "age", at: week(1) });
  });

  test("a key leads to the framed feature's alerts", async () => {
    open(`/drift/noshow?feature=fare`, matrix());
    await expect.poll(here).not.toBe("");
    await userEvent.keyboard("a");
    expect(address()).toBe("/alerts?monitor=noshow-drift&segment=fare");
  });

  test("stretches and views stand in the address, and a view closes again", async () => {
    open("/drift/noshow", matrix());
    await userEvent.click(await screen.findByRole("button", { name: "8 weeks" }));
    await userEvent.keyboard("m");
    expect(asked()).toEqual({ days: "56", view: "models" });
    await userEvent.keyboard("m");
    expect(asked()).toEqual({ days: "56" });
  });

  test("a failed run is said, and what was found before stands", async () => {
    open("/drift/noshow", matrix({ state: "failed", message: "column fare is gone" }));
    expect((await screen.findByRole("alert")).textContent).toContain(
      "The last run failed: column fare is gone.",
    );
    expect(screen.getByText(/Features by week/)).toBeTruthy();
  });

  test("a run under way says how far it is, and nothing can be recomputed meanwhile", async () => {
    open("/drift/noshow", matrix({ task_id: 9 }), {
      "GET /tasks": { body: [{ id: 9, state: "running", done: 3, total: 12 }] },
    });
    expect((await screen.findByText(/Comparing, 25 % done/)).getAttribute("role")).toBe("status");
    expect(screen.getByText("recompute all").hasAttribute("disabled")).toBe(true);
  });

  test("it runs at once with a key, and all of it only after a second word", async () => {
    const sent = open("/drift/noshow", matrix(), { "POST /drift/noshow/run": { body: {} } });
    await expect.poll(here).not.toBe("");
    await userEvent.keyboard("r");
    await expect
      .poll(() => sent.filter((a) => a.method === "POST").map((a) => a.body))
      .toEqual([{ all: false }]);
    await expect.poll(() => screen.getByText("recompute all").hasAttribute("disabled")).toBe(false);
    await userEvent.click(screen.getByText("recompute all"));
    await userEvent.click(screen.getByText("Recompute all"));
    await expect
      .poll(() => sent.filter((a) => a.method === "POST").map((a) => a.body))
      .toContainEqual({ all: true });
  });

  test("another reference is asked for in days; what is refused keeps what was typed", async () => {
    const sent = open("/drift/noshow", matrix(), {
      "POST /drift/noshow/reference": { status: 422, body: { detail: "from 2 June on there are no rows" } },
    });
    await expect.poll(here).not.toBe("");
    await userEvent.keyboard("b");
    const dialog = await screen.findByRole("dialog");
    fireEvent.change(within(dialog).getByLabelText("First day"), { target: { value: "2026-06-02" } });
    fireEvent.change(within(dialog).getByLabelText("Last day"), { target: { value: "2026-06-29" } });
    await userEvent.click(within(dialog).getByText("Compare with these"));
    expect((await within(dialog).findByRole("alert")).textContent).toBe("from 2 June on there are no rows");
    expect(within(dialog).getByLabelText<HTMLInputElement>("First day").value).toBe("2026-06-02");
    expect(sent.find((a) => a.method === "POST")?.body).toEqual({ from: "2026-06-02", to: "2026-06-29" });
  });

  test("a comparison without a period yet says that it is being computed", async () => {
    open("/drift/noshow", matrix({ state: "new", periods: [], rows: [] }));
    expect((await screen.findByText(/No period to show/)).textContent).toContain("It is being computed.");
  });
});

describe("the grid", () => {
  const draw = (of: Matrix, width = 274 + 3 * 60) => {
    const frame = vi.fn();
    render(<MatrixGrid matrix={of} frame={{ row: 1, column: 2 }} setFrame={frame} width={width} />);
    return frame;
  };

  test("fills a cell by how much of its limit is used, and writes the figure where it is over", () => {
    draw(matrix());
    const fills = screen.getAllByRole("gridcell").map((c) => c.querySelector("rect")!.getAttribute("fill"));
    expect(fills).toEqual([
      "var(--well)",
      "var(--pewter)",
      "var(--pewter2)",
      "var(--well)",
      "url(#few)",
      "var(--verm-mark)",
    ]);
    const over = screen.getByRole("gridcell", { name: "fare, 18 to 24 May: over, .30" });
    expect(over.getAttribute("aria-selected")).toBe("true");
    expect(within(over).getByText(".30")).toBeTruthy();
    expect(screen.getByText("fare: 12 rows are too few")).toBeTruthy();
  });

  test("has no room for figures where there are many periods", () => {
    draw(matrix(), 274 + 3 * 20);
    const over = screen.getByRole("gridcell", { name: "fare, 18 to 24 May: over, .30" });
    expect(within(over).queryByText(".30")).toBeNull();
  });

  test("frames the cell that is pressed", () => {
    const frame = draw(matrix());
    fireEvent.click(screen.getByRole("gridcell", { name: /^age, 11 to 17 May/ }));
    expect(frame).toHaveBeenCalledWith({ row: 0, column: 1 });
  });

  test("marks where a model's version began, and what is over as a whole", () => {
    draw(matrix());
    expect(screen.getByText("model 4 from 18 May")).toBeTruthy();
    expect(screen.getByText(/over as a whole, by a feature/)).toBeTruthy();
    expect(screen.getByText("0.60").getAttribute("style")).toContain("var(--verm)");
  });

  test("cuts a long name and says where a limit is not known", () => {
    draw(matrix({ rows: [row("minutes_between_booking_and_sailing", [0.2, 0.2, null])] }));
    expect(screen.getByText("minutes_between_book…")).toBeTruthy();
    expect(screen.getByText("–")).toBeTruthy();
  });
});

describe("pairs", () => {
  const table = [
    [0.4, 0.1],
    [0.1, 0.4],
  ];
  const pair = (first: string, second: string, beyond: number) =>
    ({
      first,
      second,
      beyond,
      limit: 0.2,
      reference_rows: 3000,
      rows: 1200,
      reference: table,
      period: table,
      expected: table,
      first_bins: ["a", "b"],
      second_bins: ["c", "d"],
    }) as unknown as PairResult;
  const view = (pairs: PairResult[], message?: string) =>
    at(
      "/drift/noshow",
      <PairsView
        name="noshow"
        at={week(2)}
        features={["age", "fare", "class"]}
        pairs={pairs}
        rows="a sample"
        message={message}
      />,
    );

  test("those that changed most are listed, and one is open", async () => {
    serve({});
    view([pair("age", "fare", 0.4), pair("fare", "class", 0.1)]);
    expect(screen.getByRole("heading", { name: /age and fare/ })).toBeTruthy();
    expect(screen.getByText("they go together in another way: .40, limit .20")).toBeTruthy();
    expect(screen.getByText(/rows than if the two went together/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: /class/ }));
    expect(screen.getByText("they go together as before")).toBeTruthy();
    expect(screen.queryByText(/rows than if the two went together/)).toBeNull();
  });

  test("without any it is said why", () => {
    serve({});
    view([], "the sample holds 12 rows");
    expect(screen.getByText("the sample holds 12 rows")).toBeTruthy();
  });

  test("any two are asked for, and a feature with itself is not", async () => {
    const sent = serve({ "GET /drift/noshow/pair": { body: { pair: pair("class", "age", 0.1) } } });
    view([pair("age", "fare", 0.4)]);
    const choose = async (label: string, name: string) => {
      await userEvent.click(screen.getByLabelText(label));
      await userEvent.click(await screen.findByRole("option", { name }));
    };
    await choose("First feature", "class");
    await choose("Second feature", "class");
    expect(screen.getByText("Choose two different ones.")).toBeTruthy();
    expect(sent.filter((a) => a.path.endsWith("/pair"))).toEqual([]);
    await choose("Second feature", "age");
    expect(await screen.findByRole("heading", { name: /class and age/ })).toBeTruthy();
  });
});

describe("a feature in a period", () => {
  const found = (more: object = {}) => ({
    from: week(2),
    to: week(3),
    zone: "UTC",
    kind: "number",
    period: "week",
    accept: 0.001,
    streak: 2,
    bars: [],
    reference: { blocks: 4 },
    result: {
      state: "over",
      why: "",
      reference: { rows: 12_000, mean: 40, median: 38, min: 1, max: 99 },
      period: { rows: 900, mean: 52, median: 50, min: 2, max: 97 },
      measures: [
        { name: "psi", value: 0.31, limit: 0.1, decides: true },
        { name: "missing_share", value: 0.004, limit: 0.01, decides: true },
        { name: "ks", value: 0.2, limit: 0, decides: false },
      ],
      new: ["z"],
      vanished: [],
    },
    ...more,
  });
  const show = (body: object) => {
    serve({ "GET /drift/noshow/features/fare": { body } });
    at("/drift/noshow", <FeaturePanel name="noshow" feature="fare" at={week(2)} />);
    return screen.findByRole("region", { name: "fare" });
  };

  test("stands with each measure beside its limit, and what decides", async () => {
    const panel = await show(found());
    const rows = within(panel)
      .getAllByRole("row")
      .slice(1)
      .map((r) => r.textContent);
    expect(rows).toEqual([
      "PSI0.3100.100over",
      "missing share0.40 %1.00 %as expected",
      "Kolmogorov-Smirnov0.200–",
    ]);
    expect(panel.textContent).toContain("Mean 52, 40 before; median 50, 38 before; 2 to 97.");
    expect(panel.textContent).toContain("New: z");
    expect(panel.textContent).toContain("Over for 2 weeks in a row.");
    expect(panel.textContent).toContain("one clean week in 1,000 be flagged");
    expect(panel.textContent).toContain("allow for what 4 blocks of the reference wobble");
    expect(within(panel).getByText("Its alerts").getAttribute("href")).toBe(
      "/alerts?monitor=noshow-drift&segment=fare",
    );
  });

  test("that could not be judged says why, and of no values draws nothing", async () => {
    const few = found({ kind: "category", reference: { blocks: 0 } });
    const panel = await show({
      ...few,
      result: { ...few.result, state: "too few", why: "12 rows are too few." },
    });
    expect(panel.textContent).toContain("12 rows are too few.");
    expect(panel.textContent).toContain("Nothing to draw");
    expect(panel.textContent).toContain("nothing is known of the reference's wobble");
    expect(panel.textContent).not.toContain("Mean");
  });
});
