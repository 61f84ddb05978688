import { Link, useParams } from "react-router";

import type { Ground, Item } from "../../api/client";
import { useBatch } from "../../api/batches";
import { useItem } from "../../api/items";
import { mayOperate, useMe } from "../../api/people";
import { Chain } from "../../parts/chain";
import { DrillThere } from "../../parts/drill";
import { Causes } from "../../parts/causes";
import { Comparison, Hex } from "../../parts/hex";
import { ProblemNote } from "../../parts/problem-note";
import { ReadbackReport, WrittenTo } from "../../parts/readback";
import { SlotReport } from "../../parts/slot";
import { bytes, moment } from "../../parts/text";
import { Mark } from "../../parts/verdict";

export function ItemPage() {
  const params = useParams();
  const batchID = Number(params.batch);
  const n = Number(params.item);
  const query = useItem(batchID, n);
  const batch = useBatch(batchID);
  const me = useMe();
  if (query.error) return <ProblemNote error={query.error} />;
  const item = query.data;
  if (!item) return <p>Loading…</p>;
  const itemAt = (ref: string) => {
    const found = item.linked?.[ref];
    return found !== undefined && found !== n ? `/batches/${batchID}/items/${found}` : undefined;
  };
  return (
    <div className="flex flex-col gap-5">
      <div>
        <p className="text-sm">
          <Link to={`/batches/${batchID}`} className="quiet-link">
            Batch {batchID}
          </Link>{" "}
          {batch.data && <span className="soft">{batch.data.source.reference}</span>}
        </p>
        <div className="flex flex-wrap items-center gap-3">
          <h1 className="break-all">{item.shown}</h1>
          {item.verdict && <Mark word={item.now?.verdict ?? item.verdict} />}
        </div>
        <p className="text-sm soft">
          {item.role} ({item.why}), {bytes(item.size)}
          {item.holds && `, ${item.holds}`}
          {item.where && (item.device ? `, as ${item.where} says` : `, read by the ${item.where}`)}
        </p>
        {item.inside && (
          <p className="text-sm">
            It lies inside <Around inside={item.inside} to={itemAt(item.path.slice(0, item.path.lastIndexOf("//")))} />.
          </p>
        )}
      </div>
      {!item.settled && <p>This file is still being measured.</p>}
      {item.now && (
        <section className="flex flex-col gap-2 rounded-box border border-primary/50 p-4">
          <p className="flex flex-wrap items-center gap-2">
            <span className="font-semibold">Judged again:</span> <Mark word={item.now.verdict} />
            <span className="text-sm soft">
              since {moment(item.now.at)}, {item.verdict} when its batch ended;{" "}
              <Link to={`/reassessments/${String(item.now.reassessment)}`} className="quiet-link">
                reassessment {item.now.reassessment}
              </Link>
              ,{" "}
              <Link to={`/records/${String(item.now.record)}`} className="quiet-link">
                record {item.now.record}
              </Link>
            </span>
          </p>
          <Grounds grounds={item.now.grounds} />
          <p className="text-sm soft">What follows is what was judged first. It stands as it was.</p>
        </section>
      )}
      <Grounds grounds={item.grounds} device={item.device !== undefined} />
      {item.device && <SlotReport said={item.device} size={item.size} />}
      {item.readback && <ReadbackReport report={item.readback} against={item.against} />}
      {item.paths.length > 0 && (
        <section className="flex flex-col gap-3">
          <h2>Chain of evidence</h2>
          {item.paths.map((path, i) => (
            <Chain key={i} path={path} itemAt={itemAt} />
          ))}
        </section>
      )}
      {item.read_backs && <WrittenTo media={item.read_backs} />}
      <Digests item={item} />
      {item.verdict === "cleared" && !item.against && mayOperate(me.data) && (
        <DrillThere batch={batchID} item={item.n} depot={batch.data?.source.kind === "depot"} />
      )}
      {item.record !== undefined && (
        <p className="text-sm">
          This outcome is{" "}
          <Link to={`/records/${item.record}`} className="quiet-link">
            record {item.record}
          </Link>{" "}
          of the ledger, where its receipt can be had.{" "}
          {item.role === "artifact" && item.verdict && (
            <>
              A{" "}
              <a
                className="quiet-link"
                href={`/api/v1/batches/${batchID}/items/${item.n}/attestation`}
                download={`batch-${batchID}-item-${item.n}.intoto.json`}
              >
                signed summary for pipelines
              </a>{" "}
              can be downloaded.
            </>
          )}
        </p>
      )}
    </div>
  );
}

function Around({ inside, to }: { inside: string; to?: string }) {
  return to ? (
    <Link to={to} className="quiet-link break-all">
      {inside}
    </Link>
  ) : (
    <span className="break-all">{inside}</span>
  );
}

const rank: Record<string, number> = { refuses: 0, withholds: 1, notes: 2, supports: 3 };
const edge: Record<string, string> = {
  refuses: "border-error",
  withholds: "border-warning",
  notes: "border-base-300",
  supports: "border-success",
};
const says: Record<string, string> = { refuses: "against it", withholds: "in the way", notes: "to note", supports: "for it" };

function Grounds({ grounds, device = false }: { grounds: Ground[]; device?: boolean }) {
  if (grounds.length === 0) return null;
  const sorted = [...grounds].sort((a, b) => (rank[a.effect] ?? 9) - (rank[b.effect] ?? 9));
  return (
    <section className="flex flex-col gap-3">
      <h2>What was found</h2>
      {sorted.map((g, i) => (
        <div key={i} className={`border-l-4 pl-3 ${edge[g.effect] ?? ""}`} data-code={g.code}>
          <p>
            <span className="text-sm font-semibold soft">{says[g.effect] ?? g.effect}: </span>
            {g.sentence}
          </p>
          {(g.code === "digest-mismatch" || g.code === "manifests-disagree") && g.expected && g.computed && g.expected !== g.computed && (
            <div className="my-1">
              <Comparison
                expected={g.expected}
                computed={g.computed}
                labels={[g.code === "digest-mismatch" ? "expected" : "stated", device ? "device" : "computed"]}
              />
            </div>
          )}
          {g.findings && g.findings.length > 0 ? <Causes findings={g.findings} /> : g.advice && <p className="font-semibold">{g.advice}</p>}
          {g.earlier && (
            <p className="text-sm">
              <Link className="quiet-link" to={`/records/${g.earlier.record}`}>
                What was found then
              </Link>
            </p>
          )}
          {g.signature?.steps && <Steps steps={g.signature.steps} />}
        </div>
      ))}
    </section>
  );
}

function Steps({ steps }: { steps: { question: string; holds: boolean; detail: string }[] }) {
  return (
    <details className="text-sm">
      <summary className="cursor-pointer">How the signature was decided</summary>
      <ol className="list-decimal pl-6">
        {steps.map((s) => (
          <li key={s.question}>
            {s.question} <span className="font-semibold">{s.holds ? "Yes" : "No"}</span>: <span className="break-all">{s.detail}</span>
          </li>
        ))}
      </ol>
    </details>
  );
}

function Digests({ item }: { item: Item }) {
  const entries = Object.entries(item.digests);
  if (entries.length === 0) return null;
  return (
    <section>
      <h2 className="mb-1">Digests of these bytes</h2>
      <dl className="grid grid-cols-[6rem_1fr] gap-x-3">
        {entries.map(([algorithm, value]) => (
          <div key={algorithm} className="contents">
            <dt className="soft">{algorithm}</dt>
            <dd className="min-w-0">
              <Hex value={value} />
            </dd>
          </div>
        ))}
      </dl>
      <Link to={`/records?digest=${entries.find(([a]) => a === "SHA-256")?.[1] ?? entries[0]?.[1] ?? ""}`} className="quiet-link text-sm">
        All records of these bytes
      </Link>
    </section>
  );
}
