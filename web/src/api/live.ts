import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { outdate, type Kind } from "./keys";
import type { components } from "./schema";

type Topic = components["schemas"]["Changed"]["topic"];

/** What each topic of the service's event stream makes stale. */
const stale: Record<Topic, Kind[]> = {
  alerts: ["alerts", "groups", "datasets", "scorecard", "chart"],
  incidents: ["incidents", "planned", "scorecard", "chart"],
  messages: ["messages", "channels", "mailbox", "groups"],
  slas: ["slas"],
  drift: ["drift"],
  runs: ["runs", "lineage"],
};

/** Follows the event stream; gives since when it is broken, if it is. */
export function useLive(): Date | null {
  const queries = useQueryClient();
  const [brokenSince, setBroken] = useState<Date | null>(null);
  useEffect(() => {
    let source = new EventSource("/api/v1/events");
    let wasBroken = false;
    const follow = () => {
      source.onopen = () => {
        setBroken(null);
        if (wasBroken) queries.invalidateQueries();
        wasBroken = false;
      };
      source.onerror = () => {
        wasBroken = true;
        setBroken((since) => since ?? new Date());
      };
      source.addEventListener("changed", (event) => {
        const { topic } = JSON.parse((event as MessageEvent<string>).data) as { topic: Topic };
        outdate(queries, ...(stale[topic] ?? [])); // a newer service may know more topics
      });
    };
    // A page kept for the way back would hold its connection, and browsers allow few.
    const leave = () => source.close();
    const back = (event: PageTransitionEvent) => {
      if (!event.persisted) return;
      source = new EventSource("/api/v1/events");
      wasBroken = true;
      follow();
    };
    follow();
    window.addEventListener("pagehide", leave);
    window.addEventListener("pageshow", back);
    return () => {
      source.close();
      window.removeEventListener("pagehide", leave);
      window.removeEventListener("pageshow", back);
    };
  }, [queries]);
  return brokenSince;
}
