/** The bell, folded from sheet metal, just struck. */
export function Glyph({ size = 24 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 20 20" aria-hidden>
      <path d="M7.5 3V1.2H12.5V3M7 3.5H8.5V14.5H3.2Z" fill="none" stroke="var(--ink)" strokeWidth="1.4" />
      <path d="M8.5 2.8H13.5L17.6 15.2H8.5Z" fill="var(--ink)" />
      <circle cx="12.8" cy="17.7" r="1.9" fill="var(--brass-mark)" />
    </svg>
  );
}
