import { useEffect, useRef, useState } from "react";

/** Follows the width of the element it is put on. */
export function useWidth<E extends HTMLElement>() {
  const ref = useRef<E>(null);
  const [width, setWidth] = useState(300);
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => setWidth(Math.floor(entry.contentRect.width)));
    if (ref.current) watch.observe(ref.current);
    return () => watch.disconnect();
  }, []);
  return [ref, width] as const;
}
