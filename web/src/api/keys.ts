import { useQueryClient, type QueryClient } from "@tanstack/react-query";

/** What the console keeps answers about; what is of one kind changes together. */
export type Kind =
  | "accounts"
  | "alerts"
  | "audit"
  | "channels"
  | "character"
  | "chart"
  | "columns"
  | "consistency"
  | "countries"
  | "datasets"
  | "deliveries"
  | "drift"
  | "earlier"
  | "explain"
  | "files"
  | "filter"
  | "find"
  | "first of past"
  | "forecast"
  | "groups"
  | "held"
  | "incidents"
  | "lineage"
  | "logs"
  | "mailbox"
  | "me"
  | "messages"
  | "metrics"
  | "monitors"
  | "my tokens"
  | "notes"
  | "outliers"
  | "outlook"
  | "past"
  | "planned"
  | "proposals"
  | "questions"
  | "reconciliations"
  | "rehearsal"
  | "routes"
  | "runs"
  | "scorecard"
  | "sessions"
  | "slas"
  | "smoothing"
  | "sources"
  | "states"
  | "suitability"
  | "tables"
  | "tags"
  | "tasks"
  | "teams"
  | "tokens"
  | "trends"
  | "trial"
  | "tried"
  | "tuning"
  | "versions"
  | "ways in"
  | "why";

/** The key that an answer is kept under: its kind, and what was asked. */
export const keyOf = (kind: Kind, ...asked: unknown[]) => [kind, ...asked] as const;

/** Says that what is kept of some kinds is no longer so: what is in sight is asked for again. */
export function outdate(queries: QueryClient, ...kinds: Kind[]) {
  for (const kind of kinds) queries.invalidateQueries({ queryKey: keyOf(kind) });
}

/** `outdate` for a change that was made here. */
export function useOutdate() {
  const queries = useQueryClient();
  return (...kinds: Kind[]) => outdate(queries, ...kinds);
}
