import { Link } from "react-router";

import type { Reassessment, Selection } from "../api/client";
import { type RunFilter, useReassessments } from "../api/reassessments";
import { ProblemNote } from "./problem-note";
import { day, groups, moment } from "./text";

/** A reassessment in a list: why there was one, and what it changed; of what, where that is said. */
export function RunLine({ run: r, of }: { run: Reassessment; of?: string }) {
  return (
    <li className="py-2">
      <Link to={`/reassessments/${String(r.id)}`} className="quiet-link font-semibold">
        Reassessment {r.id}
      </Link>{" "}
      {of && `of ${of}, `}
      {progress(r)}
      <p className="text-sm">
        {r.reason}{" "}
        <span className="soft">
          — {r.by}, {moment(r.created)}
        </span>
      </p>
    </li>
  );
}

/** What has become of what waited: the newest reassessments that followed from decisions. */
export function JudgedAgain({ filter }: { filter: RunFilter }) {
  const list = useReassessments(filter, 5);
  const runs = list.data?.pages[0]?.items ?? [];
  if (list.error) return <ProblemNote error={list.error} />;
  if (runs.length === 0) return null;
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">Judged again</h2>
      <ul className="rows">
        {runs.map((r) => (
          <RunLine key={r.id} run={r} />
        ))}
      </ul>
    </section>
  );
}

function progress(r: Reassessment): string {
  switch (r.state) {
    case "waiting":
      return "waiting";
    case "failed":
      return "given up";
    case "done":
      return `${String(r.changed)} of ${String(r.judged)} changed`;
  }
}

/** What was judged again, in words. */
export function selected(s: Selection): string {
  const out = [];
  if (s.batch) out.push(`batch ${String(s.batch)}`);
  if (s.publisher) out.push(s.publisher);
  if (s.key) out.push(`key ${groups(s.key).join(" ")}`);
  if (s.from) out.push(`since ${day(s.from)}`);
  if (s.to) out.push(`before ${day(s.to)}`);
  if (s.waiting) out.push("what is not cleared");
  return out.join(", ") || "everything";
}
