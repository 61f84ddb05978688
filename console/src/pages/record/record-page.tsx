import { Link, useParams } from "react-router";

import { useRecord } from "../../api/records";
import { Back } from "../../parts/back";
import { Hex } from "../../parts/hex";
import { NotFound } from "../../parts/not-found";
import { ProblemNote } from "../../parts/problem-note";
import { moment, say } from "../../parts/text";
import { Mark } from "../../parts/verdict";

export function RecordPage() {
  const position = Number(useParams().record);
  const query = useRecord(position);
  if (!Number.isInteger(position)) return <NotFound what="That is not a record's number." />;
  if (query.error) return <ProblemNote error={query.error} />;
  const r = query.data;
  if (!r) return <p>Loading…</p>;
  return (
    <div className="flex flex-col gap-4">
      <div>
        <Back to="/records" name="Records" />
        <div className="flex flex-wrap items-center gap-3">
          <h1 className="break-all">
            Record {r.position}: {r.subject}
          </h1>
          {r.verdict && <Mark word={r.verdict} />}
        </div>
        <p className="text-sm soft">
          {say(r.kind)}, by {r.by} on {moment(r.at)}
          {r.batch !== undefined && (
            <>
              ,{" "}
              <Link to={`/batches/${r.batch}`} className="quiet-link">
                batch {r.batch}
              </Link>
            </>
          )}
        </p>
      </div>
      {r.sentences && (
        <div className="max-w-3xl">
          {r.sentences.map((sentence) => (
            <p key={sentence}>{sentence}</p>
          ))}
        </div>
      )}
      <section>
        <h2 className="mb-1">Leaf hash</h2>
        <Hex value={r.leaf} />
      </section>
      <p>
        <a className="btn btn-sm" href={`/api/v1/records/${r.position}/receipt`} download={`record-${r.position}.receipt.json`}>
          Download the receipt
        </a>{" "}
        <span className="text-sm soft">Anyone with the service's public key can check it, without asking us.</span>
      </p>
      <section>
        <h2 className="mb-1">As it was written</h2>
        {/* A region that scrolls must be reachable by keyboard. */}
        {/* eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex */}
        <pre tabIndex={0} className="max-h-[36rem] overflow-auto rounded-box border border-base-300 bg-base-200 p-3 font-mono text-sm">
          {JSON.stringify(r.body, null, 2)}
        </pre>
      </section>
    </div>
  );
}
