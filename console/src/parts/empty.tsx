import type { ReactNode } from "react";

/** Says what to do first where there is nothing yet. */
export function Empty({ children }: { children: ReactNode }) {
  return <div className="rounded-box border border-dashed border-base-300 px-4 py-6 text-center">{children}</div>;
}
