/** The name of the product, with an epsilon drawn as three bars. */
export function Wordmark() {
  return (
    <span className="flex items-center gap-2 text-lg font-semibold tracking-tight">
      <svg viewBox="0 0 16 16" width="18" height="18" className="text-primary" aria-hidden>
        <path d="M3 13V3h10M3 8h7M3 13h10" fill="none" stroke="currentColor" strokeWidth="2.4" />
      </svg>
      Endeixis
    </span>
  );
}
