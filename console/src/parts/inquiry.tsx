import type { ReactNode } from "react";

import type { Inquiry } from "../api/client";
import { useInquiry } from "../api/reassessments";
import { ProblemNote } from "./problem-note";

/** A question that takes a while: how far its answer has come, then the answer. */
export function Answer({ id, doing, children }: { id: number; doing: string; children: (answered: Inquiry) => ReactNode }) {
  const query = useInquiry(id);
  if (query.error) return <ProblemNote error={query.error} />;
  const q = query.data;
  if (q?.state === "failed") return <p role="alert">{q.note}</p>;
  if (q?.state === "done") return children(q);
  return (
    <div role="status" className="w-64">
      <progress
        className="progress progress-primary w-full"
        value={q?.total ? q.done : undefined}
        max={q?.total ?? undefined}
        aria-label={doing}
      />
      <p className="text-sm soft">
        {doing}
        {q && q.total > 0 && `, ${q.done.toLocaleString("en")} of ${q.total.toLocaleString("en")}`}
      </p>
    </div>
  );
}
