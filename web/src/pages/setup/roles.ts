import type { Role } from "../../api/client";

/** What each role may, beside what the ones before it may. */
export const roles: readonly (readonly [Role, string, string])[] = [
  ["reader", "reader", "looks at everything but people"],
  ["responder", "responder", "also labels, takes, snoozes, and writes incidents and notes"],
  ["editor", "editor", "also sets up what is measured, watched and told, and pushes"],
  ["admin", "admin", "also looks after sources, channels, people and secrets"],
];

/** Patterns as they are written in a field: with commas between them. */
export const patterns = (text: string) =>
  text
    .split(",")
    .map((p) => p.trim())
    .filter((p) => p !== "");

/** Where a role is for. */
export const everywhere = (datasets: readonly string[] | null | undefined) =>
  datasets?.length ? datasets.join(", ") : "all datasets";
