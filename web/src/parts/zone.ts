import { useSyncExternalStore } from "react";
import { useAlerts } from "../api/queries";
import { own, showIn } from "./words";

/** Whose clocks times are written by: each page's datasets', those of who looks, or UTC. */
export type Clocks = "datasets" | "mine" | "utc";

const kept = "tinbell-clocks";
const listeners = new Set<() => void>();
const read = () => (localStorage.getItem(kept) as Clocks | null) ?? "datasets";

export function setClocks(clocks: Clocks) {
  localStorage.setItem(kept, clocks);
  listeners.forEach((l) => l());
}

const follow = (l: () => void) => {
  listeners.add(l);
  return () => void listeners.delete(l);
};

/** The zone most datasets live in. */
export function useZone(): string | undefined {
  const some = useAlerts({ limit: 1 });
  return some.data?.alerts?.[0]?.zone;
}

/** Pages about one thing, which has a zone of its own. */
const single = /^\/(alerts|datasets|series|monitors|drift|logs|trials)\/./;

/**
 * Whose clocks, and the zone that is meant by it here. Every time of a page is written in one
 * zone: on a page about one thing in that thing's, on a list in the one that most datasets have.
 */
export function useClocks(path: string): { clocks: Clocks; zone: string } {
  const clocks = useSyncExternalStore(follow, read);
  const usual = useZone() ?? own;
  const all = clocks === "mine" ? own : clocks === "utc" ? "UTC" : undefined;
  showIn(all ?? (single.test(path) ? undefined : usual));
  return { clocks, zone: all ?? usual };
}
