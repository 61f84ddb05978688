import { Link } from "react-router";

import type { Reach, Rejudge } from "../api/client";
import { count } from "./text";
import { Mark } from "./verdict";

/** What rests on a key, and what each verdict becomes. */
export function ReachPanel({ reach, when }: { reach: Reach; when: string }) {
  return (
    <div className="flex flex-col gap-2" data-reach={reach.rests}>
      <p>
        A signature by this key bears on <span className="font-semibold">{count(reach.rests, "artifact", "artifacts")}</span> in{" "}
        {count(reach.batches, "batch", "batches")}.
      </p>
      {reach.turns.length === 0 ? (
        <p>If it {when}, no verdict changes.</p>
      ) : (
        <>
          <p>If it {when}:</p>
          <ul className="flex flex-col gap-1">
            {reach.turns.map((t) => (
              <li key={t.from + t.to} className="flex items-center gap-2">
                <span className="font-semibold tabular-nums">{t.count}</span> <Mark word={t.from} /> <span aria-label="becomes">→</span>{" "}
                <Mark word={t.to} />
              </li>
            ))}
          </ul>
          <RejudgedList items={reach.items} />
        </>
      )}
    </div>
  );
}

/** Changed artifacts under their batches. */
export function RejudgedList({ items }: { items: Rejudge[] }) {
  const batches = [...new Set(items.map((i) => i.batch))];
  return (
    <div className="text-sm">
      {batches.map((batch) => (
        <section key={batch} className="mb-2">
          <Link to={`/batches/${String(batch)}`} className="quiet-link font-semibold">
            Batch {batch}
          </Link>
          <ul className="rows">
            {items
              .filter((i) => i.batch === batch)
              .map((i) => (
                <li key={i.n} className="flex flex-wrap items-center gap-2 py-1" title={i.why}>
                  <Mark word={i.from} /> <span aria-label="becomes">→</span> <Mark word={i.to} />
                  <Link to={`/batches/${String(batch)}/items/${String(i.n)}`} className="quiet-link font-mono wrap-anywhere">
                    {i.shown}
                  </Link>
                </li>
              ))}
          </ul>
        </section>
      ))}
    </div>
  );
}
