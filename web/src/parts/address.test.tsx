import { act, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import { address, at } from "../test/served";
import { useAddress } from "./address";
import { Gaps, hasGaps, useFill } from "./Gaps";
import { useMore } from "./more";

function Wanted() {
  const [search, put] = useAddress();
  return (
    <>
      <output>{search.get("owner") ?? "anybody"}</output>
      <button onClick={() => put({ owner: "ports", tag: undefined })}>ports</button>
      <button onClick={() => put({ owner: "" })}>anybody's</button>
    </>
  );
}

test("what is chosen stands in the address, and what is empty is taken out of it", async () => {
  at("/alerts?tag=gates&state=open", <Wanted />);
  await userEvent.click(screen.getByText("ports"));
  expect(address()).toBe("/alerts?state=open&owner=ports");
  expect(screen.getByRole("status").textContent).toBe("ports");
  await userEvent.click(screen.getByText("anybody's"));
  expect(address()).toBe("/alerts?state=open");
});

function Filled() {
  const [fill, set] = useFill();
  return (
    <>
      <output>{fill}</output>
      <Gaps fill={fill} onFill={set} />
      <button onClick={() => set("none")}>open</button>
    </>
  );
}

test("how gaps are filled is part of the address, so that a link shows the same", async () => {
  at("/series/3?fill=previous&since=7d", <Filled />);
  expect(screen.getByRole("status").textContent).toBe("previous");
  expect(screen.getByLabelText("Gaps").textContent).toContain("filled with the value before");
  await userEvent.click(screen.getByText("open"));
  expect(address()).toBe("/series/3?since=7d");
});

test("a period that is not over yet is no gap", () => {
  const now = Date.parse("2026-06-01T03:30:00Z");
  const chart = (observed: (number | null)[]) =>
    ({
      at: ["2026-06-01T00:00:00Z", "2026-06-01T01:00:00Z", "2026-06-01T02:00:00Z", "2026-06-01T03:00:00Z"],
      observed,
      period_seconds: 3600,
    }) as unknown as Parameters<typeof hasGaps>[0];
  expect(hasGaps(chart([1, 2, 3, null]), now)).toBe(false);
  expect(hasGaps(chart([1, null, 3, 4]), now)).toBe(true);
});

test("of many rows a screenful is drawn, and the next as its end comes into sight", () => {
  let seen: (entries: { isIntersecting: boolean }[]) => void = () => {};
  const usual = globalThis.IntersectionObserver;
  class Watcher {
    constructor(f: typeof seen) {
      seen = f;
    }
    observe() {}
    disconnect() {}
  }
  globalThis.IntersectionObserver = Watcher as unknown as typeof IntersectionObserver;
  function Rows() {
    const [shown, end] = useMore(100, 40);
    return (
      <>
        <output>{shown}</output>
        <i ref={end} />
      </>
    );
  }
  try {
    at("/", <Rows />);
    const shown = () => screen.getByRole("status").textContent;
    expect(shown()).toBe("40");
    act(() => seen([{ isIntersecting: false }]));
    expect(shown()).toBe("40");
    act(() => seen([{ isIntersecting: true }]));
    act(() => seen([{ isIntersecting: true }]));
    expect(shown()).toBe("100");
  } finally {
    globalThis.IntersectionObserver = usual;
  }
});
