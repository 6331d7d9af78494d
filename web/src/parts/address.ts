import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** What stands in the page's address, and how some of it is changed; what is empty is taken out. */
export function useAddress() {
  const [search, setSearch] = useSearchParams();
  const put = useCallback(
    (change: Record<string, string | undefined>) =>
      setSearch(
        (now) => {
          const next = new URLSearchParams(now);
          for (const [k, v] of Object.entries(change))
            if (v) next.set(k, v);
            else next.delete(k);
          return next;
        },
        { replace: true },
      ),
    [setSearch],
  );
  return [search, put] as const;
}
