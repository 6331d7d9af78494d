import { type ComponentType, type ReactNode, useEffect, useState } from "react";

/** A component whose code is fetched when it is first drawn, or before. */
export type Later<P> = ComponentType<P> & { fetch: () => Promise<unknown> };

/**
 * Makes one. Until its code is here it draws what is given as meanwhile; code that is here
 * is drawn at once, where a boundary of React's own keeps people waiting for 300 ms.
 */
export function later<P extends object>(
  load: () => Promise<ComponentType<P>>,
  meanwhile: ReactNode = null,
): Later<P> {
  let code: ComponentType<P> | undefined;
  const fetch = async () => (code ??= await load());
  function Shown(props: P) {
    const [View, setView] = useState(() => code);
    const [error, setError] = useState<unknown>();
    useEffect(() => {
      if (!View) fetch().then((c) => setView(() => c), setError);
    }, [View]);
    if (error) throw error;
    return View ? <View {...props} /> : meanwhile;
  }
  return Object.assign(Shown, { fetch });
}
