import { expect, test } from "vitest";
import { named, proposal } from "./Proposed";

const of = (measure: string) =>
  ({ name: "gate-rows", measure, period_seconds: 3600, series: [{}, {}] }) as unknown as Parameters<
    typeof proposal
  >[0];

test("what is proposed follows from what is measured, and says why", () => {
  expect(proposal(of("rows"))).toMatchObject({ method: "seasonal", direction: "both" });
  expect(proposal(of("null_share"))).toMatchObject({ method: "seasonal", direction: "high" });
  expect(proposal(of("freshness"))).toMatchObject({ method: "arrival", direction: "high" });
  expect(proposal(of("rows")).why).toContain("2 series, every 1 h");
});

test("a monitor is called as its metric, of rows as their volume", () => {
  expect(named("gate-rows")).toBe("gate-volume");
  expect(named("gate-nulls")).toBe("gate-nulls");
});
