import { useCallback, useState } from "react";

/**
 * Draws a screenful of rows, and further ones as their end comes into sight: a thousand at
 * once would take seconds. Gives how many to draw, and what watches the end.
 */
export function useMore(all: number, step = 60) {
  const [shown, setShown] = useState(step);
  const more = useCallback(
    (end: Element | null) => {
      if (!end) return;
      const watch = new IntersectionObserver(
        (seen) => seen.some((s) => s.isIntersecting) && setShown((n) => n + step),
        { rootMargin: "600px" },
      );
      watch.observe(end);
      return () => watch.disconnect();
    },
    [step],
  );
  return [Math.min(shown, Math.max(all, step)), more] as const;
}
