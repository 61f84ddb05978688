import { TriangleAlert } from "lucide-react";

import { Failure } from "../api/client";

/** What went wrong, and what to do next, in the service's own words. */
export function ProblemNote({ error }: { error: unknown }) {
  const problem = error instanceof Failure ? error.problem : undefined;
  return (
    <div role="alert" className="my-3 flex gap-3 rounded-box border border-error/60 bg-base-200 p-3">
      <TriangleAlert size={18} className="mt-0.5 shrink-0 text-error" aria-hidden />
      <div>
        <p className="font-semibold">{problem?.detail ?? "Something went wrong in this page."}</p>
        {problem?.facts && problem.facts.length > 0 ? (
          <ul className="list-disc pl-5">
            {problem.facts.map((fact) => (
              <li key={fact}>{fact}</li>
            ))}
          </ul>
        ) : (
          <p>{problem?.advice ?? "Load it again; if it stays so, tell your administrator."}</p>
        )}
      </div>
    </div>
  );
}
