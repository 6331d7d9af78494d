import { Tooltip } from "radix-ui";
import type { ReactNode } from "react";

/** What each figure of ours is, and where it comes from, in a sentence. */
export const terms = {
  rarity:
    "How long one would wait, on average, for as odd a stretch by chance alone; from the own past, " +
    "extremes of ordinary days included.",
  deviation:
    "How far from what was expected, in half-widths of the band: beyond 1 it lies outside; from the last " +
    "24 hours against the fitted baseline.",
  stated: "How often it may ring by chance, all its segments and rules together, as it is set.",
  achieved:
    "How often it has cried wolf: labelled false alarms over the time judged, one disturbance once; behind " +
    "it, what it would be if all that is unlabelled were noise.",
  interval: "Where the true figure lies with 95 % certainty, from as few labels as there are.",
  precision: "Of its labelled alerts the share that were faults, with its 95 % interval (Wilson).",
  recall: "Of the incidents since judging began, how many were told.",
  delay: "From the beginning of an incident to the alert that told it, half of them sooner.",
  strength: "How many times its own limit the rule that rang has been exceeded.",
  separability:
    "How well a classifier tells a period's rows from the reference's, from chance to perfect; its limit " +
    "keeps the stated share of clean periods.",
} as const;

export type TermName = keyof typeof terms;

/** A word of ours: the pointer or the focus on it says what it is. */
export function Term({ is, children }: { is: TermName; children: ReactNode }) {
  return (
    <Said is={is}>
      <button
        type="button"
        className="cursor-help underline decoration-ink3 decoration-dotted underline-offset-3"
      >
        {children}
      </button>
    </Said>
  );
}

/** Says what a term is at something that takes the focus by itself. */
export function Said({ is, children }: { is: TermName; children: ReactNode }) {
  return (
    <Tooltip.Provider delayDuration={250}>
      <Tooltip.Root>
        <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
        <Tooltip.Portal>
          <Tooltip.Content
            sideOffset={4}
            collisionPadding={12}
            className="z-30 max-w-[340px] border border-ink bg-field px-3 py-2 text-[13.5px] leading-[18px]"
          >
            {terms[is]}
          </Tooltip.Content>
        </Tooltip.Portal>
      </Tooltip.Root>
    </Tooltip.Provider>
  );
}
