import { Popover } from "radix-ui";
import { type ComponentProps, memo, type ReactNode, useMemo } from "react";
import { Button } from "./Form";
import { useMore } from "./more";
import { Said, Term, type TermName } from "./Term";
import { cx } from "./cx";
import { useAddress } from "./address";

/** A column: what stands in it, and by what it is sorted, if it can be. */
export type Column<T> = {
  id: string;
  head: string;
  cell: (row: T) => ReactNode;
  by?: (row: T) => string | number | null | undefined;
  num?: boolean;
  /** What its head shows, where that is more than what it is called. */
  shows?: ReactNode;
  /** What its head means, where the word is ours. */
  is?: TermName;
  /** It cannot be put away, as what a row is called. */
  fixed?: boolean;
  /** It is shown only where somebody asks for it. */
  away?: boolean;
  className?: string;
};

/** The order of two values; what is none comes last, whichever way. */
function compare(
  a: string | number | null | undefined,
  b: string | number | null | undefined,
  down: boolean,
) {
  if (a === b) return 0;
  if (a === null || a === undefined || a === "") return 1;
  if (b === null || b === undefined || b === "") return -1;
  const order = typeof a === "number" && typeof b === "number" ? a - b : String(a).localeCompare(String(b));
  return down ? -order : order;
}

/**
 * What of a list is shown and in which order, kept in the address: `find` words that all rows
 * have, `sort` a column (with a - before it the largest first), `columns` those that are shown
 * or put away against what is usual. Several lists on a page have names, which stand before.
 */
function usePlace(name: string) {
  const [search, put] = useAddress();
  const key = (k: string) => (name ? `${name}-${k}` : k);
  return {
    get: (k: string) => search.get(key(k)) ?? "",
    set: (k: string, v: string) => put({ [key(k)]: v }),
  };
}

/** The rows of a list that have all words that its address asks for. */
export function useFound<T>(rows: T[], words: (row: T) => string, name = ""): T[] {
  const asked = usePlace(name).get("find").toLowerCase().split(/\s+/).filter(Boolean);
  return asked.length === 0
    ? [...rows]
    : rows.filter((r) => {
        const text = words(r).toLowerCase();
        return asked.every((w) => text.includes(w));
      });
}

/** From more rows than these a list can be narrowed. */
export const few = 8;

const nothing = () => "";

/** The field that narrows a list by words; they stand in the address. */
export function Filter({ label = "Filter", by, name = "" }: { label?: string; by: string; name?: string }) {
  const place = usePlace(name);
  return (
    <label className="inline-flex items-center gap-2 text-ink2">
      {label}
      <input
        type="search"
        className="w-64 max-w-full border border-ink3 bg-field px-2 py-[3px] text-ink"
        placeholder={by}
        value={place.get("find")}
        onChange={(e) => place.set("find", e.target.value)}
      />
    </label>
  );
}

/**
 * A list that can be sorted by its heads and whose columns can be chosen, both kept in the
 * address. Rows beyond a screenful are drawn as they come into sight.
 */
export function Table<T>({
  name = "",
  columns,
  rows,
  id,
  row,
  below,
  mark,
  after,
  served,
  words,
  className = "",
}: {
  name?: string;
  columns: Column<T>[];
  rows: T[];
  id: (row: T) => string | number;
  row?: (row: T) => ComponentProps<"tr">;
  /** What stands below a row, over its whole width. */
  below?: (row: T) => ReactNode;
  /** What stands before each row, as a box to mark it. */
  mark?: (row: T) => ReactNode;
  /** What stands after each row, as what can be done with it. */
  after?: (row: T) => ReactNode;
  /** The order is the service's. */
  served?: boolean;
  /** By what words a long list can be narrowed. */
  words?: (row: T) => string;
  className?: string;
}) {
  const place = usePlace(name);
  const found = useFound(rows, words ?? nothing, name);
  const wanted = words ? found : rows;
  const asked = place.get("columns");
  const turned = asked.split(",").filter(Boolean);
  const shown = useMemo(
    () => columns.filter((c) => !!c.away === asked.split(",").includes(c.id)),
    [columns, asked],
  );
  const sort = place.get("sort"),
    down = sort.startsWith("-"),
    by = columns.find((c) => c.id === sort.replace(/^-/, ""));
  const list = useMemo(
    () => (by?.by && !served ? [...wanted].sort((a, b) => compare(by.by!(a), by.by!(b), down)) : wanted),
    [wanted, by, down, served],
  );
  const [drawn, end] = useMore(list.length);
  /** First as is natural (figures largest first), then the other way, then as it comes. */
  const turn = (c: Column<T>) => {
    const [first, second] = c.num ? [`-${c.id}`, c.id] : [c.id, `-${c.id}`];
    place.set("sort", sort === first ? second : sort === second ? "" : first);
  };
  return (
    <>
      {words && (rows.length > few || place.get("find") !== "") && (
        <div className="my-2">
          <Filter by="words" name={name} />
        </div>
      )}
      <table className={`w-full border-collapse border-t border-ink ${className}`}>
        <thead>
          <tr className="border-b border-rule">
            {mark && <td className="w-7 py-1" />}
            {shown.map((c) => (
              <th
                key={c.id}
                className={cx("py-1", c.num && "num", c.className)}
                aria-sort={by === c ? (down ? "descending" : "ascending") : undefined}
              >
                <Head c={c} order={by === c ? (down ? " ▾" : " ▴") : ""} turn={() => turn(c)} />
              </th>
            ))}
            <td className="num">
              <Choose
                columns={columns}
                shown={shown}
                turn={(c) => {
                  const next = turned.includes(c) ? turned.filter((t) => t !== c) : [...turned, c];
                  place.set("columns", next.join(","));
                }}
              />
            </td>
          </tr>
        </thead>
        <tbody>
          {list.slice(0, drawn).map((r) => (
            <Row key={id(r)} of={r} shown={shown} row={row} below={below} mark={mark} after={after} />
          ))}
        </tbody>
      </table>
      {drawn < list.length && <div ref={end} className="h-px" />}
    </>
  );
}

type RowProps<T> = {
  of: T;
  shown: Column<T>[];
  row?: (row: T) => ComponentProps<"tr">;
  below?: (row: T) => ReactNode;
  mark?: (row: T) => ReactNode;
  after?: (row: T) => ReactNode;
};

/** One row with what stands below it; those that are there are not drawn again with more. */
const Row = memo(function Row<T>({ of: r, shown, row, below, mark, after }: RowProps<T>) {
  const { className, ...rest } = row?.(r) ?? {};
  const under = below?.(r);
  return (
    <>
      <tr className={cx("h-[30px]", className)} {...rest}>
        {mark && <td onClick={(e) => e.stopPropagation()}>{mark(r)}</td>}
        {shown.map((c, i) => (
          <td
            key={c.id}
            className={cx(c.num && "num", c.className)}
            colSpan={i === shown.length - 1 && !after ? 2 : 1}
          >
            {c.cell(r)}
          </td>
        ))}
        {after && <td className="num whitespace-nowrap">{after(r)}</td>}
      </tr>
      {under && (
        <tr>
          <td colSpan={shown.length + (mark ? 1 : 0) + 1} className="bg-well p-3">
            {under}
          </td>
        </tr>
      )}
    </>
  );
}) as <T>(props: RowProps<T>) => ReactNode;

/** What a column is called; pressed it sorts, and pointed at it says what it means. */
function Head<T>({ c, order, turn }: { c: Column<T>; order: string; turn: () => void }) {
  const shows = c.shows ?? c.head;
  if (!c.by) return c.is ? <Term is={c.is}>{shows}</Term> : shows;
  const press = (
    <button type="button" className={order ? "font-bold text-ink" : ""} onClick={turn}>
      {shows}
      {order}
    </button>
  );
  return c.is ? <Said is={c.is}>{press}</Said> : press;
}

/** Which columns are shown. */
function Choose<T>({
  columns,
  shown,
  turn,
}: {
  columns: Column<T>[];
  shown: Column<T>[];
  turn: (id: string) => void;
}) {
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <Button look="text" aria-label="Choose columns" title="Choose columns" className="no-underline">
          ⋯
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" className="z-10 border border-ink bg-field p-3">
          <fieldset>
            <legend className="text-[13px] text-ink2">Columns</legend>
            {columns.map((c) => (
              <label key={c.id} className="flex items-baseline gap-2">
                <input
                  type="checkbox"
                  className="accent-ink"
                  checked={shown.includes(c)}
                  disabled={c.fixed}
                  onChange={() => turn(c.id)}
                />
                {c.head}
              </label>
            ))}
          </fieldset>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
