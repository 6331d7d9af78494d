import { expect, test } from "vitest";
import { places, prefetch } from "./places";

test("no place is listed twice, and what is general stands behind what is particular", () => {
  const paths = places.map((p) => p.path);
  expect(new Set(paths).size).toBe(paths.length);
  expect(paths.every((p) => !p.startsWith("/") && !p.endsWith("/"))).toBe(true);
});

test("the code of every place is there and draws something", async () => {
  for (const p of places) {
    const code = await p.load();
    expect(typeof code.default, p.path).toBe("function");
  }
});

test("pointing at a link fetches the code of its list, and never that of one thing in it", () => {
  const asked: string[] = [];
  const kept = places.map((p) => p.load);
  for (const p of places)
    p.load = () => {
      asked.push(p.path);
      return Promise.reject(new Error("the connection is gone"));
    };
  try {
    prefetch("/monitors?tag=gates");
    prefetch("/monitors");
    prefetch("/setup/people");
    prefetch("/nowhere");
  } finally {
    places.forEach((p, i) => (p.load = kept[i]));
  }
  expect(asked.filter((p) => p === "monitors")).toHaveLength(1);
  expect(asked.some((p) => p.includes(":"))).toBe(false);
  expect(asked).toContain("setup/people");
});
