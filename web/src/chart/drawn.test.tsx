import { fireEvent, render, screen } from "@testing-library/react";
import { scaleLinear } from "d3-scale";
import { describe, expect, test, vi } from "vitest";
import type { Alert, Distributions, Incident } from "../api/client";
import { Brush } from "./Brush";
import { Distribution } from "./Distribution";
import { DeviationMark, Interval } from "./Interval";
import { Spark } from "./Small";
import { Strip } from "./Strip";

const hour = 3_600_000;

/** Figures of what was drawn, to the tenth of a pixel. */
const figures = (e: Element, ...names: string[]) =>
  names.map((n) => Math.round(Number(e.getAttribute(n)) * 10) / 10);

describe("an interval", () => {
  const figure = (estimate: number | null, low: number | null, high: number | null) => ({
    estimate,
    low,
    high,
    k: 0,
    n: 0,
  });

  test("is as wide as it is sure, and its estimate a tick in it", () => {
    render(<Interval figure={figure(0.5, 0.25, 1)} width={102} />);
    const drawn = screen.getByRole("img", { name: "0.50, between 0.25 and 1.00" });
    const [span, tick] = drawn.querySelectorAll("rect");
    expect(figures(span, "x", "width")).toEqual([26, 75]);
    expect(figures(tick, "x")).toEqual([50]);
  });

  test("of nothing is said to be unknown and has no tick", () => {
    render(<Interval figure={figure(null, null, null)} />);
    expect(screen.getByRole("img", { name: "unknown" }).querySelectorAll("rect")).toHaveLength(0);
  });
});

describe("a deviation", () => {
  const drawn = (value: number | null) =>
    render(<DeviationMark value={value} />).container.querySelector("circle");

  test("lies to its side, and beyond the band in colour", () => {
    expect(figures(drawn(-0.5)!, "cx")).toEqual([33]);
    expect(drawn(-0.5)!.getAttribute("fill")).toBe("var(--ink)");
    expect(drawn(1.2)!.getAttribute("fill")).toBe("var(--verm-mark)");
  });

  test("stays on its scale, and without one there is no mark", () => {
    expect(figures(drawn(400)!, "cx")).toEqual([82]);
    expect(drawn(null)).toBeNull();
  });
});

describe("the strip", () => {
  const alert = (id: number, from: number, to: number | null, more: Partial<Alert> = {}) =>
    ({
      id,
      sentence: `alert ${id}`,
      severity: "warning",
      verdict: "",
      raised_at: new Date(from * hour).toISOString(),
      ended_at: to === null ? null : new Date(to * hour).toISOString(),
      closed_at: to === null ? null : new Date(to * hour).toISOString(),
      ...more,
    }) as unknown as Alert;
  const incident = (id: number, from: number, to: number | null) =>
    ({
      id,
      title: `incident ${id}`,
      started_at: new Date(from * hour).toISOString(),
      ended_at: to === null ? null : new Date(to * hour).toISOString(),
    }) as unknown as Incident;
  const draw = (alerts: Alert[], incidents: Incident[], onAlert?: (id: number) => void) => {
    const x = scaleLinear()
      .domain([0, 100 * hour])
      .range([0, 100]);
    const { container } = render(
      <svg>
        <Strip
          {...{ alerts, incidents, onAlert }}
          x={(at) => x(Number(at))}
          y={0}
          width={100}
          lane={6}
          now={90 * hour}
          id="s"
        />
      </svg>,
    );
    return [...container.querySelectorAll("rect")];
  };

  test("ties an alert and its incident together where both last", () => {
    const [incidentBar, alertBar, tie] = draw([alert(1, 12, 30)], [incident(1, 10, 20)]);
    expect(figures(incidentBar, "x", "width")).toEqual([10, 10]);
    expect(incidentBar.getAttribute("fill")).toBe("var(--ink)");
    expect(figures(alertBar, "x", "width")).toEqual([12, 18]);
    expect(figures(tie, "x", "width")).toEqual([12, 8]);
    expect(incidentBar.textContent).toBe("incident 1: told");
  });

  test("hatches an incident that nothing told of, and ties nothing", () => {
    const drawn = draw([alert(1, 40, 50)], [incident(1, 10, 20)]);
    expect(drawn).toHaveLength(2);
    expect(drawn[0].getAttribute("fill")).toBe("url(#s-miss)");
    expect(drawn[0].textContent).toBe("incident 1: missed");
  });

  test("has what is open last until now, and leaves out what lies elsewhere", () => {
    const drawn = draw([alert(1, 80, null), alert(2, 200, 210), alert(3, -20, -10)], []);
    expect(drawn).toHaveLength(1);
    expect(figures(drawn[0], "x", "width")).toEqual([80, 10]);
  });

  test("draws what is short so that it can be seen", () => {
    expect(figures(draw([alert(1, 50, 50.1)], [])[0], "width")).toEqual([3]);
  });

  test.each<[string, Partial<Alert>, number | null, string | null, string | null]>([
    ["a fault", { verdict: "fault" }, 60, "var(--ink)", null],
    ["noise", { verdict: "noise" }, 60, "none", "var(--noise)"],
    ["what was planned", { verdict: "planned" }, 60, "url(#s-planned)", "var(--violet)"],
    ["what nobody answered", {}, 60, "none", "var(--ink2)"],
    ["an open warning", {}, null, "var(--brass-mark)", null],
    ["what is open and critical", { severity: "critical" }, null, "var(--verm-mark)", null],
  ])("paints %s in a way of its own", (_, more, to, fill, stroke) => {
    const [bar] = draw([alert(1, 50, to, more)], []);
    expect(bar.getAttribute("fill")).toBe(fill);
    expect(bar.getAttribute("stroke")).toBe(stroke);
  });

  test("opens the alert that is pressed", () => {
    const open = vi.fn();
    fireEvent.click(draw([alert(7, 50, 60)], [], open)[0]);
    expect(open).toHaveBeenCalledWith(7);
  });
});

describe("a brush", () => {
  function brush(picked?: readonly [number, number]) {
    const pick = vi.fn();
    render(
      <Brush
        from={0}
        to={100 * hour}
        heights={[0, 4, 2]}
        period={hour}
        zone="UTC"
        picked={picked}
        onPick={pick}
        width={102}
        label="Stretch"
      />,
    );
    const drawn = screen.getByRole("slider", { name: "Stretch" });
    drawn.setPointerCapture = () => {};
    return { pick, drawn };
  }
  const drag = (drawn: Element, from: number, to: number) => {
    fireEvent.pointerDown(drawn, { clientX: from, pointerId: 1 });
    fireEvent.pointerMove(drawn, { clientX: to, pointerId: 1 });
    fireEvent.pointerUp(drawn, { clientX: to, pointerId: 1 });
  };

  test("picks what it is dragged over, by whole periods and whichever way", () => {
    const { pick, drawn } = brush();
    drag(drawn, 11.2, 31);
    expect(pick).toHaveBeenLastCalledWith([10 * hour, 30 * hour]);
    drag(drawn, 31, 11.2);
    expect(pick).toHaveBeenLastCalledWith([10 * hour, 30 * hour]);
  });

  test("stays within its ends", () => {
    const { pick, drawn } = brush();
    drag(drawn, 91, 400);
    expect(pick).toHaveBeenLastCalledWith([90 * hour, 100 * hour]);
  });

  test("lets go at a press, a double press and Escape", () => {
    const { pick, drawn } = brush([10 * hour, 20 * hour]);
    drag(drawn, 50, 50);
    fireEvent.doubleClick(drawn);
    fireEvent.keyDown(drawn, { key: "Escape" });
    expect(pick.mock.calls).toEqual([[undefined], [undefined], [undefined]]);
  });

  test("moves by a period with the arrow keys, where something is picked", () => {
    const { pick, drawn } = brush([10 * hour, 20 * hour]);
    fireEvent.keyDown(drawn, { key: "ArrowRight" });
    fireEvent.keyDown(drawn, { key: "ArrowLeft" });
    expect(pick.mock.calls).toEqual([[[11 * hour, 21 * hour]], [[9 * hour, 19 * hour]]]);
    expect(drawn.getAttribute("aria-valuetext")).toBe("Thu 1 Jan 10:00 to Thu 1 Jan 20:00");
  });

  test("without anything picked the arrow keys do nothing", () => {
    const { pick, drawn } = brush();
    fireEvent.keyDown(drawn, { key: "ArrowRight" });
    expect(pick).not.toHaveBeenCalled();
    expect(drawn.getAttribute("aria-valuetext")).toBe("all of it");
  });

  test("bars outside of what is picked fade", () => {
    const { drawn } = brush([2 * hour, 3 * hour]);
    const bars = [...drawn.querySelectorAll("rect")].filter((r) => r.hasAttribute("opacity"));
    expect(bars.map((b) => b.getAttribute("opacity"))).toEqual(["0.45", "1"]); // of nothing there is no bar
  });
});

describe("a sparkline", () => {
  const spark = (observed: (number | null)[], high: (number | null)[] = []) => ({
    from: "2026-06-17T00:00:00Z",
    period_seconds: 3600,
    observed,
    low: high.map(() => 0),
    high,
  });

  test("ends in a dot at the newest value there is", () => {
    const { container } = render(<Spark spark={spark([1, 2, 4, null])} width={104} height={34} />);
    expect(figures(container.querySelector("circle")!, "cx", "cy")).toEqual([67.7, 2]); // the highest
  });

  test("has room for its band", () => {
    const { container } = render(<Spark spark={spark([1, 2], [8, 8])} width={104} height={34} />);
    expect(figures(container.querySelector("circle")!, "cy")).toEqual([24.5]);
  });

  test("of nothing says so, and of nothing but gaps has no dot", () => {
    expect(render(<Spark spark={spark([])} />).container.textContent).toBe("no rows measured");
    expect(render(<Spark spark={spark([null, null])} />).container.querySelector("circle")).toBeNull();
  });
});

describe("two distributions", () => {
  const bars = [
    { from: 0, to: 10, label: "", reference: 0.5, period: 0.25, psi: 0.17 },
    { from: 10, to: 20, label: "", reference: 0.5, period: 0.75, psi: 0.1 },
  ] as unknown as NonNullable<Distributions["bars"]>;
  const draw = (of: typeof bars, over = false) =>
    render(<Distribution bars={of} over={over} width={234} labels={{ reference: "May", period: "June" }} />)
      .container;

  test("stand over each other on one scale", () => {
    const drawn = draw(bars);
    expect(screen.getByRole("img", { name: "May and June over each other" })).toBeTruthy();
    const heights = (selector: string) =>
      drawn
        .querySelector(selector)!
        .getAttribute("points")!
        .split(" ")
        .map((p) => Math.round(176 - Number(p.split(",")[1])));
    const [first, second] = [heights("polygon"), heights("polyline")];
    expect(first).toEqual([0, 111, 111, 111, 111, 0]);
    expect(second).toEqual([0, 55, 55, 166, 166, 0]);
  });

  test("say of each bar what it adds, in colour where the whole is over its limit", () => {
    const drawn = draw(bars, true);
    expect(drawn.querySelector("title")?.textContent).toBe(
      "0 to 10: 50.0 % in the reference, 25.0 % now; adds 0.170 to the PSI",
    );
    const below = [...drawn.querySelectorAll("rect[fill='var(--verm-mark)']")];
    expect(below.map((b) => figures(b, "height")[0])).toEqual([50, 29.4]);
    expect(draw(bars).querySelector("rect[fill='var(--verm-mark)']")).toBeNull();
  });

  test("of named values carry their names, cut where they are long, and not all of many", () => {
    const named = Array.from({ length: 20 }, (_, i) => ({ ...bars[0], label: `Northmole harbour ${i}` }));
    const words = [...draw(named).querySelectorAll("text")].map((t) => t.textContent);
    expect(words.filter((w) => w === "Northmole ha")).toHaveLength(7);
  });
});
