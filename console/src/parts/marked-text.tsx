import { useMemo } from "react";

import { type Made, type Mark, marked } from "./marked";
import { harmless } from "./text";

const look: Record<Exclude<Made, "">, { says: string; style: string }> = {
  read: { says: "read", style: "bg-success/20 text-base-content underline decoration-success decoration-2 underline-offset-4" },
  problem: { says: "a problem", style: "bg-error/20 text-base-content underline decoration-error decoration-wavy underline-offset-4" },
  left: {
    says: "left aside",
    style: "bg-warning/25 text-base-content underline decoration-warning decoration-dashed decoration-2 underline-offset-4",
  },
};

/** A text with each part marked by what was made of it. */
export function MarkedText({ text, marks }: { text: string; marks: Mark[] }) {
  const lines = useMemo(() => marked(text, marks), [text, marks]);
  return (
    <div className="flex flex-col gap-2" data-marked>
      <p className="flex flex-wrap gap-x-4 gap-y-1 text-sm">
        {Object.values(look).map((l) => (
          <span key={l.says} className={`px-1 ${l.style}`}>
            {l.says}
          </span>
        ))}
        <span className="soft">Lines without any of these are folded.</span>
      </p>
      <div className="rounded border border-base-300 py-2 font-mono text-sm">
        {lines.map((line, i) =>
          line === null ? (
            <div key={i} className="pl-14 soft select-none" aria-label="folded lines">
              ⋯
            </div>
          ) : (
            <div key={i} className="flex gap-3 pr-3 whitespace-pre-wrap">
              <span className="w-11 shrink-0 text-right soft select-none">{line.no}</span>
              <span className="min-w-0 wrap-anywhere">
                {line.parts.map((p, j) =>
                  p.made === "" ? (
                    <span key={j}>{harmless(p.text)}</span>
                  ) : (
                    <mark key={j} className={look[p.made].style} data-made={p.made} title={p.why}>
                      {harmless(p.text) || " "}
                    </mark>
                  ),
                )}
              </span>
            </div>
          ),
        )}
      </div>
    </div>
  );
}
