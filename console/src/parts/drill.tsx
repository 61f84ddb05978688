import { Link } from "react-router";

import { useDrill } from "../api/spot";
import type { components } from "../api/types";
import { ProblemNote } from "./problem-note";
import { Mark } from "./verdict";

export type Drilled = components["schemas"]["Drill"];

/** What a drill altered, and what was said to each. */
export function DrillTable({ drill }: { drill: Drilled }) {
  return (
    <section className="flex flex-col gap-3" role="status">
      <h2>Drill</h2>
      {drill.passed ? (
        <p>
          The check can fail: nothing that was altered was cleared. This is{" "}
          <Link to={`/records/${drill.record}`} className="quiet-link">
            record {drill.record}
          </Link>
          .
        </p>
      ) : (
        <p role="alert" className="rounded-box border border-error/60 bg-base-200 p-3 font-semibold text-error">
          Alarm: something that was altered was cleared, or a file is not what was verified any more. Trust no verdict until it is known
          why;{" "}
          <Link to={`/records/${drill.record}`} className="underline">
            record {drill.record}
          </Link>{" "}
          has the drill.
        </p>
      )}
      {drill.items.map((item) => (
        <div key={item.n} className="overflow-x-auto">
          <table className="table table-sm">
            <caption className="pb-1 text-left font-semibold break-all">{item.shown}</caption>
            <thead>
              <tr>
                <th scope="col">What was altered, in memory only</th>
                <th scope="col">Verdict</th>
                <th scope="col">What was said</th>
              </tr>
            </thead>
            <tbody>
              {item.rows.map((row) => (
                <tr key={row.what} className={row.alarm ? "bg-error/10" : ""}>
                  <th scope="row" className="font-normal">
                    {row.what}
                  </th>
                  <td>
                    <Mark word={row.verdict} />
                  </td>
                  <td>{row.said}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ))}
    </section>
  );
}

/** Proves that the check of an item, or of a whole batch, can fail, where the service has the bytes. */
export function DrillThere({ batch, item, depot }: { batch: number; item?: number; depot: boolean }) {
  const drill = useDrill(batch);
  const one = item !== undefined;
  if (!depot) {
    return (
      <p className="text-sm soft">
        A drill of {one ? "this file" : "these files"} is run where {one ? "its bytes are" : "they are"}: on the spot check page, or by
        “endeixis batch drill {batch}”.
      </p>
    );
  }
  return (
    <>
      {drill.data ? (
        <DrillTable drill={drill.data} />
      ) : (
        <button
          type="button"
          className="btn btn-sm self-start"
          disabled={drill.isPending}
          onClick={() => {
            drill.mutate(one ? { n: item } : undefined);
          }}
        >
          {drill.isPending ? "Altering it in memory…" : `Prove that ${one ? "this check" : "these checks"} can fail`}
        </button>
      )}
      {drill.error && <ProblemNote error={drill.error} />}
    </>
  );
}
