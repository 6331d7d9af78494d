import type { ReactNode } from "react";
import type { Verdict } from "../api/client";
import { cx } from "./cx";
import { Key } from "./keys";
import { Mark } from "./Mark";

/** The bar at the foot of a page that asks what something was; within reach of a thumb too. */
export function AnswerBar({
  asks,
  given,
  busy,
  answer,
  children,
}: {
  asks: string;
  given: (v: Verdict) => boolean;
  busy: boolean;
  answer: (v: Verdict) => void;
  children: ReactNode;
}) {
  return (
    <footer
      className={cx(
        "fixed inset-x-0 bottom-0 z-[5] flex flex-wrap items-center gap-x-5 gap-y-2 border-t border-ink",
        "bg-well px-6 py-[13px] max-md:gap-x-2 max-md:px-3 max-md:py-2",
      )}
    >
      <span className="font-[650] max-md:w-full">{asks}</span>
      {(["fault", "noise", "planned"] as const).map((v) => (
        <button
          key={v}
          aria-pressed={given(v)}
          disabled={busy}
          onClick={() => answer(v)}
          className={cx(
            "flex items-center justify-center border border-ink px-3 py-[5px]",
            "max-md:min-h-11 max-md:grow max-md:px-1",
            given(v) && "bg-field outline-1 outline-ink",
          )}
        >
          <span className="max-md:hidden">
            <Key name={v[0].toUpperCase()} />
          </span>
          <Mark state={v} word={v[0].toUpperCase() + v.slice(1)} />
        </button>
      ))}
      {children}
    </footer>
  );
}
