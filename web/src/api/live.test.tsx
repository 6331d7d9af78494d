import { act, screen } from "@testing-library/react";
import { beforeEach, expect, test, vi } from "vitest";
import { at } from "../test/served";
import { useLive } from "./live";

let stream: Stream;

/** The service's event stream, as far as the console listens to it. */
class Stream {
  onopen?: () => void;
  onerror?: () => void;
  heard: Record<string, (e: unknown) => void> = {};
  closed = false;
  constructor(public address: string) {
    // eslint-disable-next-line @typescript-eslint/no-this-alias
    stream = this;
  }
  addEventListener(kind: string, listen: (e: unknown) => void) {
    this.heard[kind] = listen;
  }
  close() {
    this.closed = true;
  }
  changed(topic: string) {
    this.heard.changed({ data: JSON.stringify({ topic }) });
  }
}

beforeEach(() => void vi.stubGlobal("EventSource", Stream));

function Followed() {
  const broken = useLive();
  return <p>{broken ? "broken" : "live"}</p>;
}

test("what an event names is read again, and nothing else", () => {
  const { queries } = at("/", <Followed />);
  for (const key of ["alerts", "slas", "chart"]) queries.setQueryData([key], 1);
  act(() => stream.changed("alerts"));
  expect(queries.getQueryState(["alerts"])?.isInvalidated).toBe(true);
  expect(queries.getQueryState(["chart"])?.isInvalidated).toBe(true);
  expect(queries.getQueryState(["slas"])?.isInvalidated).toBe(false);
});

test("a broken stream says so, and once it is back everything is read again", () => {
  const { queries } = at("/", <Followed />);
  queries.setQueryData(["slas"], 1);
  act(() => stream.onerror?.());
  expect(screen.getByText("broken")).toBeTruthy();
  act(() => stream.onopen?.());
  expect(screen.getByText("live")).toBeTruthy();
  expect(queries.getQueryState(["slas"])?.isInvalidated).toBe(true);
});

test("the stream ends with the page", () => {
  const { unmount } = at("/", <Followed />);
  unmount();
  expect(stream.closed).toBe(true);
});
