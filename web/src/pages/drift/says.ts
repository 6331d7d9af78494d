import type { MatrixCell } from "../../api/client";
import { number, time } from "../../parts/words";

/** The measures by the names people read. */
export const measures: Record<string, string> = {
  psi: "PSI",
  jensen_shannon: "Jensen-Shannon distance",
  ks: "Kolmogorov-Smirnov",
  chi_square: "chi-square",
  cramers_v: "Cramér's V",
  mean_rank: "mean rank",
  rank_spread: "spread of ranks",
  share_moved: "share of a value",
  wasserstein: "Wasserstein distance",
  missing_share: "missing share",
  present_share: "present share",
  new_share: "new values",
  outside_share: "outside the range",
  vanished: "vanished values",
};

/** A figure as short as a cell: .17, .004, 2.4, 31. */
export function brief(x: number): string {
  if (x >= 10) return number(x);
  if (x >= 1) return x.toFixed(1);
  return (x >= 0.095 || x === 0 ? x.toFixed(2) : x.toFixed(3)).replace(/^0/, "");
}

/** A value of a measure beside its limit. */
export const figure = (name: string, x: number) =>
  name === "vanished"
    ? number(x)
    : name.endsWith("_share")
      ? `${(x * 100).toFixed(x < 0.1 ? 2 : 1)} %`
      : x >= 100
        ? x.toFixed(0)
        : x >= 10
          ? x.toFixed(1)
          : x.toFixed(3);

/** A day: "22 Nov". */
export const day = (at: string | number, zone: string) => time(at, zone, "day").replace(/^\w+ /, "");

/** The days of a period: "16 to 22 Nov", or "22 Nov". */
export function days(from: string, to: string, zone: string): string {
  const first = day(from, zone),
    last = day(Date.parse(to) - 12 * 3600_000, zone);
  if (first === last) return first;
  return first.split(" ")[1] === last.split(" ")[1]
    ? `${first.split(" ")[0]} to ${last}`
    : `${first} to ${last}`;
}

/** How a cell is filled: by how much of its limit is used. */
export function fill(cell: MatrixCell): string {
  if (cell.state !== "over" && cell.state !== "as expected") return "url(#few)";
  if (cell.ratio > 2) return "var(--verm-mark)";
  if (cell.ratio > 1) return "var(--verm-wash)";
  if (cell.ratio > 0.8) return "var(--pewter2)";
  if (cell.ratio > 0.5) return "var(--pewter)";
  return "var(--well)";
}
