import { useEffect, useRef, useState } from "react";
import { cx } from "./cx";
import { later } from "./later";

const KeyList = later(() => import("./KeyList").then((m) => m.KeyList));

export type Keys = Record<string, { does: string; act: () => void }>;

/** What is typed into, and a box that the space bar ticks. */
const typed = "input:not([type=checkbox], [type=radio]), textarea, select, [role=dialog]";
const ticked = "[type=checkbox], [type=radio]";

/** Single keys; they rest while a field has focus. A box that was just ticked is no field. */
export function useKeys(keys: Keys) {
  const latest = useRef(keys);
  useEffect(() => {
    latest.current = keys;
  });
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (
        event.ctrlKey ||
        event.metaKey ||
        event.altKey ||
        target.closest(typed) ||
        (event.key === " " && target.closest(ticked))
      )
        return;
      const key = latest.current[event.key] ?? latest.current[event.key.toUpperCase()];
      if (key && !(event.key === "Enter" && target.closest("a, button"))) {
        event.preventDefault();
        key.act();
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
}

const glyphs: Record<string, string> = {
  " ": "Space",
  ArrowLeft: "←",
  ArrowRight: "→",
  ArrowUp: "↑",
  ArrowDown: "↓",
};

export function Key({ name }: { name: string }) {
  return (
    <kbd
      className={cx(
        "mr-[5px] inline-flex h-[17px] min-w-[17px] items-center justify-center border",
        "border-ink2 px-[3px] font-sans text-[11.5px] leading-none font-semibold",
      )}
    >
      {glyphs[name] ?? name}
    </kbd>
  );
}

/** The page's own keys, right of the place line, and the list of all. */
export function KeyRow({ keys }: { keys: Keys }) {
  const [open, setOpen] = useState(false);
  useKeys({ ...keys, "?": { does: "all keys", act: () => setOpen(true) } });
  const shown = Object.entries(keys).slice(0, 4);
  return (
    <div className="keys flex shrink-0 items-center gap-3 text-[13px] text-ink2">
      {shown.map(([name, key]) => (
        <span key={name}>
          <Key name={name} />
          {key.does}
        </span>
      ))}
      <button className="text-ink2" aria-haspopup="dialog" onClick={() => setOpen(true)}>
        <Key name="?" />
        all keys
      </button>
      {open && <KeyList keys={keys} close={() => setOpen(false)} />}
    </div>
  );
}
