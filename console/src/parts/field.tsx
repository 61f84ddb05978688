import { type ReactNode, useId } from "react";

/** A labelled form field. The child gets the id that the label points at. */
export function Field({ label, hint, children }: { label: string; hint?: string; children: (id: string) => ReactNode }) {
  const id = useId();
  return (
    <div className="flex flex-col gap-1">
      <label htmlFor={id} className="font-semibold">
        {label}
      </label>
      {children(id)}
      {hint && <p className="text-sm soft">{hint}</p>}
    </div>
  );
}
