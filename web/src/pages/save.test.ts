import { afterEach, expect, test, vi } from "vitest";
import type { Chart } from "../api/client";
import { saveCSV, saveSVG } from "./save";

const chart = {
  metric: "boarding-scans-rows",
  series: { id: 7, segment: "Gull Stone" },
  at: ["2026-06-01T00:00:00Z", "2026-06-01T01:00:00Z"],
  observed: [12, null],
  expected: [10.5, 11],
  low: [5, 6],
  high: [20, 21],
  deviation: [0.2, null],
} as unknown as Chart;

/** Keeps what is saved instead of a browser: its name and its content. */
function saved() {
  const kept: { name: string; content: Blob }[] = [];
  let last: Blob;
  vi.stubGlobal("URL", {
    createObjectURL: (b: Blob) => {
      last = b;
      return "blob:x";
    },
    revokeObjectURL: () => {},
  });
  vi.spyOn(HTMLAnchorElement.prototype, "click").mockImplementation(function (this: HTMLAnchorElement) {
    kept.push({ name: this.download, content: last });
  });
  return kept;
}

afterEach(() => {
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
  document.body.innerHTML = "";
});

test("a chart's values are saved under its name, with nothing where nothing came", async () => {
  const kept = saved();
  saveCSV(chart);
  expect(kept[0].name).toBe("boarding-scans-rows-gull-stone.csv");
  expect(await kept[0].content.text()).toBe(
    "at,observed,expected,low,high,deviation\n" +
      "2026-06-01T00:00:00Z,12,10.5,5,20,0.2\n2026-06-01T01:00:00Z,,11,6,21,\n",
  );
});

test("a saved drawing stands alone: colours and type are written into it", async () => {
  const kept = saved();
  document.documentElement.style.setProperty("--ink3", "#666");
  document.documentElement.style.setProperty("--verm", "#c00");
  document.body.innerHTML = `<svg data-chart="7"><path stroke="var(--verm)"/><text x="1">3 h</text></svg>`;
  saveSVG(chart);
  const svg = await kept[0].content.text();
  expect(kept[0].name).toBe("boarding-scans-rows-gull-stone.svg");
  expect(svg).toContain(`stroke="#c00"`);
  expect(svg).toContain(`fill="#666"`);
  expect(svg).not.toContain("var(");
});

test("where the chart is not drawn nothing is saved", () => {
  const kept = saved();
  saveSVG(chart);
  expect(kept).toEqual([]);
});
