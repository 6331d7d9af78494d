/** The states of things, each with a mark, a word and a colour. */
const marks = {
  critical: {
    color: "var(--verm-mark)",
    text: "text-verm",
    draw: <path d="M6 .8 11.2 6 6 11.2 .8 6Z" fill="currentColor" />,
  },
  warning: {
    color: "var(--brass-mark)",
    text: "text-brass-text",
    draw: (
      <>
        <path d="M6 .8 11.2 6 6 11.2 .8 6Z" fill="none" stroke="currentColor" strokeWidth="1.4" />
        <path d="M.8 6H11.2L6 11.2Z" fill="currentColor" />
      </>
    ),
  },
  fault: { color: "var(--ink)", text: "text-ink", draw: <path d="M1.5 1.5h9v9h-9Z" fill="currentColor" /> },
  noise: {
    color: "var(--noise)",
    text: "text-noise",
    draw: (
      <circle
        cx="6"
        cy="6"
        r="4.6"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.4"
        strokeDasharray="2.4 1.6"
      />
    ),
  },
  planned: {
    color: "var(--violet)",
    text: "text-violet",
    draw: (
      <path
        d="M3.5 1.2H1.2V10.8H3.5M8.5 1.2H10.8V10.8H8.5M6 3.5V8.5"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.4"
      />
    ),
  },
  unlabelled: {
    color: "var(--ink2)",
    text: "text-ink2",
    draw: <path d="M1.7 1.7h8.6v8.6h-8.6Z" fill="none" stroke="currentColor" strokeWidth="1.4" />,
  },
  overdue: {
    color: "var(--verm-mark)",
    text: "text-verm",
    draw: (
      <path d="M6 1.2a4.8 4.8 0 1 0 .01 0ZM6 3.2V6H8.4" fill="none" stroke="currentColor" strokeWidth="1.4" />
    ),
  },
  due: {
    color: "var(--ink3)",
    text: "text-ink2",
    draw: (
      <path d="M6 1.2a4.8 4.8 0 1 0 .01 0ZM6 3.2V6H8.4" fill="none" stroke="currentColor" strokeWidth="1.4" />
    ),
  },
  running: {
    color: "var(--ink2)",
    text: "text-ink2",
    draw: <circle cx="6" cy="6" r="3.2" fill="currentColor" />,
  },
  waiting: {
    color: "var(--ink2)",
    text: "text-ink2",
    draw: <circle cx="6" cy="6" r="3.4" fill="none" stroke="currentColor" strokeWidth="1.4" />,
  },
  silent: {
    color: "var(--verm-mark)",
    text: "text-verm",
    draw: <path d="M3.5 2v8M8.5 2v8" stroke="currentColor" strokeWidth="2" />,
  },
  failed: {
    color: "var(--verm-mark)",
    text: "text-verm",
    draw: <path d="M2 2l8 8M10 2l-8 8" stroke="currentColor" strokeWidth="1.8" />,
  },
  missed: {
    color: "var(--verm-mark)",
    text: "text-verm",
    draw: <path d="M2 2l8 8M10 2l-8 8" stroke="currentColor" strokeWidth="1.8" />,
  },
  told: {
    color: "var(--ink2)",
    text: "text-ink2",
    draw: <path d="M1.5 6.5 4.5 9.5 10.5 2.5" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  },
  met: {
    color: "var(--ink2)",
    text: "text-ink2",
    draw: <path d="M1.5 6.5 4.5 9.5 10.5 2.5" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  },
  "on pace": {
    color: "var(--ink2)",
    text: "text-ink2",
    draw: <path d="M2 10.5 6 2 10 10.5Z" fill="none" stroke="currentColor" strokeWidth="1.4" />,
  },
  behind: {
    color: "var(--brass-mark)",
    text: "text-brass-text",
    draw: (
      <>
        <path d="M2 10.5 6 2 10 10.5Z" fill="none" stroke="currentColor" strokeWidth="1.4" />
        <path d="M4 6.2H8L10 10.5H2Z" fill="currentColor" />
      </>
    ),
  },
  "not due": {
    color: "var(--pewter-line)",
    text: "text-ink3",
    draw: <path d="M3 6h6" stroke="currentColor" strokeWidth="1.4" />,
  },
  sent: {
    color: "var(--ink2)",
    text: "text-ink2",
    draw: <path d="M1.5 6.5 4.5 9.5 10.5 2.5" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  },
  unknown: {
    color: "var(--ink3)",
    text: "text-ink3",
    draw: <path d="M1 6h2M5 6h2M9 6h2" stroke="currentColor" strokeWidth="1.4" />,
  },
} as const;

export type State = keyof typeof marks;

/** A mark with its word. */
export function Mark({ state, word, bare }: { state: State; word?: string; bare?: boolean }) {
  const m = marks[state] ?? marks.unknown;
  return (
    <span className={`inline-flex items-baseline gap-[6px] whitespace-nowrap font-semibold ${m.text}`}>
      <svg
        width="12"
        height="12"
        viewBox="0 0 12 12"
        aria-hidden
        className="relative top-px shrink-0"
        style={{ color: m.color }}
      >
        {m.draw}
      </svg>
      {!bare && (word ?? state)}
    </span>
  );
}

/** The state of an alert: its label once it has one, else how bad it is. */
export const stateOf = (a: {
  verdict: string;
  severity: string;
  closed_at: string | null;
  cause: string;
}): State =>
  a.verdict
    ? (a.verdict as State)
    : a.closed_at
      ? "unlabelled"
      : a.cause === "overdue"
        ? "overdue"
        : (a.severity as State);
