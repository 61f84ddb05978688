import { Link, useParams } from "react-router";

import { useReassessment, useReassessments, useRejudged } from "../../api/reassessments";
import { Back } from "../../parts/back";
import { Empty } from "../../parts/empty";
import { More } from "../../parts/more";
import { ProblemNote } from "../../parts/problem-note";
import { RejudgedList } from "../../parts/rejudged";
import { RunLine, selected } from "../../parts/runs";
import { count, moment } from "../../parts/text";

/** What was judged again, and why. */
export function ReassessmentsPage() {
  const all = useReassessments();
  return (
    <div className="flex flex-col gap-5">
      <div>
        <h1>Judged again</h1>
        <p className="max-w-3xl">
          Stored measurements are judged again when a key is admitted, changes or falls, when the policy changes, when a waiver is granted
          or ended, and when somebody asks: with the keyring, policy and waivers of that moment, and without reading a file. What was judged
          before stands as it was.
        </p>
      </div>
      {all.error && <ProblemNote error={all.error} />}
      {all.data?.pages[0]?.items.length === 0 && <Empty>Nothing was judged again yet. A batch's page has a button for it.</Empty>}
      <ul className="rows">
        {all.data?.pages
          .flatMap((p) => p.items)
          .map((r) => (
            <RunLine key={r.id} run={r} of={selected(r.selection)} />
          ))}
      </ul>
      <More list={all}>Show older ones</More>
    </div>
  );
}

export function ReassessmentPage() {
  const id = Number(useParams().reassessment);
  const query = useReassessment(id);
  if (query.error) return <ProblemNote error={query.error} />;
  const r = query.data;
  if (!r) return <p>Loading…</p>;
  return (
    <div className="flex flex-col gap-4">
      <div>
        <Back to="/reassessments" name="Judged again" />
        <h1>Reassessment {r.id}</h1>
        <p>
          of {selected(r.selection)}, asked by {r.by} on {moment(r.created)}, policy version {r.policy}
        </p>
        <p>{r.reason}</p>
      </div>
      {r.state === "waiting" && <p role="status">It is being done.</p>}
      {r.state === "failed" && (
        <p role="alert" className="font-semibold">
          {r.note} {r.changed} verdicts were changed until then, and stand. Ask for it again once the cause is found.
        </p>
      )}
      {r.state === "done" && (
        <p role="status" className="font-semibold">
          {count(r.judged, "item")} judged again, and {count(r.changed, "verdict")} changed.
        </p>
      )}
      {r.state !== "waiting" && <Changed id={id} />}
      {r.record !== undefined && (
        <p className="text-sm">
          It is{" "}
          <Link to={`/records/${String(r.record)}`} className="quiet-link">
            record {r.record}
          </Link>
          ; every changed verdict has one of its own.
        </p>
      )}
    </div>
  );
}

/** What it changed, as far as it is wanted. */
function Changed({ id }: { id: number }) {
  const list = useRejudged(id);
  const items = list.data?.pages.flatMap((p) => p.items) ?? [];
  if (list.error) return <ProblemNote error={list.error} />;
  return (
    <>
      {items.length > 0 && <RejudgedList items={items} />}
      <More list={list}>Show more of them</More>
    </>
  );
}
