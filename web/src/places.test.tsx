import { render } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import { places, prefetch, prefetchLinks } from "./places";

test("no place is listed twice, and what is general stands behind what is particular", () => {
  const paths = places.map((p) => p.path);
  expect(new Set(paths).size).toBe(paths.length);
  expect(paths.every((p) => !p.startsWith("/") && !p.endsWith("/"))).toBe(true);
});

test("the code of every place is there and draws something", async () => {
  for (const p of places) expect(typeof (await p.View.fetch()), p.path).toBe("function");
});

/** Says whose code is asked for meanwhile; none of it comes. */
async function asked(during: () => unknown) {
  const spies = places.map((p) =>
    vi.spyOn(p.View, "fetch").mockRejectedValue(new Error("the connection is gone")),
  );
  try {
    await during();
    return places.filter((_, i) => spies[i].mock.calls.length > 0).map((p) => p.path);
  } finally {
    spies.forEach((s) => s.mockRestore());
  }
}

test.each([
  ["/monitors?tag=gates", ["monitors"]],
  ["/monitors/gates#silence", ["monitors/:name"]],
  ["/setup/people", ["setup/people"]],
  ["/setup", ["setup"]],
  ["/", []],
  ["/nowhere", []],
])("of %s the code of its own page is fetched and no other", async (address, wanted) => {
  expect(await asked(() => prefetch(address))).toEqual(wanted);
});

test("pointing at a link fetches the code behind it, pointing elsewhere or outside none", async () => {
  render(
    <>
      <a href="/alerts/7">
        <b>alert</b>
      </a>
      <p>words</p>
      <a href="https://example.org/alerts">outside</a>
    </>,
  );
  const at = (selector: string) => () => {
    const event = new Event("pointerover", { bubbles: true });
    document.addEventListener("pointerover", prefetchLinks, { once: true });
    document.querySelector(selector)!.dispatchEvent(event);
  };
  expect(await asked(at("b"))).toEqual(["alerts/:id"]);
  expect(await asked(at("p"))).toEqual([]);
  expect(await asked(at("a[href^=https]"))).toEqual([]);
});
