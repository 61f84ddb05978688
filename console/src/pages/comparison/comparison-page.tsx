import { Link, useParams } from "react-router";

import type { components } from "../../api/types";
import { useComparison } from "../../api/comparison";
import { More } from "../../parts/more";
import { NotFound } from "../../parts/not-found";
import { ProblemNote } from "../../parts/problem-note";
import { bytes, count, groups, moment } from "../../parts/text";
import { Mark } from "../../parts/verdict";

type Comparison = components["schemas"]["Comparison"];
type ComparedBatch = components["schemas"]["ComparedBatch"];
type ComparedFile = components["schemas"]["ComparedFile"];
type PackageLists = components["schemas"]["PackageLists"];

const kinds = {
  added: "came",
  removed: "went",
  changed: "other bytes",
  renamed: "other name",
  replaced: "other release",
  unchanged: "as it was",
  incomparable: "not compared",
} as const;

/** What changed between two batches. */
export function ComparisonPage() {
  const params = useParams();
  const before = Number(params.batch);
  const after = Number(params.other);
  const query = useComparison(before, after);
  if (!Number.isInteger(before) || !Number.isInteger(after)) return <NotFound what="These are not two batches' numbers." />;
  if (query.error) return <ProblemNote error={query.error} />;
  const first = query.data?.pages[0];
  if (!first) return <p>Loading…</p>;
  const files = query.data?.pages.flatMap((p) => p.files) ?? [];
  return (
    <div className="flex flex-col gap-5">
      <div>
        <h1>What changed</h1>
        <Side word="from" batch={first.before} />
        <Side word="to" batch={first.after} />
        <p className="text-sm soft">{counted(first)}</p>
      </div>
      <Bases comparison={first} />
      {files.length > 0 && (
        <section aria-label="Files">
          <h2>Files</h2>
          <div className="overflow-x-auto">
            <table className="table table-sm">
              <thead>
                <tr>
                  <th>Change</th>
                  <th>Before</th>
                  <th>After</th>
                </tr>
              </thead>
              <tbody>
                {files.map((f) => (
                  <tr key={`${f.before?.item ?? ""} ${f.after?.item ?? ""}`} className="align-top">
                    <td className="whitespace-nowrap">{kinds[f.kind]}</td>
                    <td>{f.before && <File batch={before} file={f.before} />}</td>
                    <td>{f.after && <File batch={after} file={f.after} />}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          <More list={query}>Show more files</More>
        </section>
      )}
      {first.packages?.map((p) => (
        <Packages key={p.after} lists={p} />
      ))}
    </div>
  );
}

function Side({ word, batch }: { word: string; batch: ComparedBatch }) {
  return (
    <p className="flex flex-wrap items-center gap-2 py-1">
      <span className="soft">{word}</span>
      <Link to={`/batches/${batch.id}`} className="quiet-link">
        batch {batch.id}
      </Link>
      <Mark word={batch.now?.verdict ?? batch.verdict ?? batch.state} />
      <span className="break-all">{batch.label || batch.source.reference}</span>
      <span className="text-sm soft">{moment(batch.created)}</span>
    </p>
  );
}

const counted = (c: Comparison) =>
  Object.entries(kinds)
    .map(([kind, word]) => [c.counts[kind] ?? 0, word] as const)
    .filter(([n]) => n > 0)
    .map(([n, word]) => `${n.toLocaleString("en")} ${word}`)
    .join(", ") || "Neither has a file.";

/** The keys that the two rest on, and what they were judged by, where that differs. */
function Bases({ comparison: { before, after } }: { comparison: Comparison }) {
  const gone = before.keys.filter((k) => !after.keys.includes(k));
  const come = after.keys.filter((k) => !before.keys.includes(k));
  if (gone.length + come.length === 0 && before.policy === after.policy) return null;
  return (
    <section aria-label="What they rest on">
      <h2>What they rest on</h2>
      <ul className="list-disc pl-5">
        {gone.map((k) => (
          <li key={k}>
            Nothing rests any more on the key <Key fingerprint={k} />.
          </li>
        ))}
        {come.map((k) => (
          <li key={k}>
            Something rests on the key <Key fingerprint={k} />, and did not before.
          </li>
        ))}
        {before.policy !== after.policy && (
          <li>
            They were judged by version {before.policy} of the policy, and then by version {after.policy}.
          </li>
        )}
      </ul>
    </section>
  );
}

function Key({ fingerprint }: { fingerprint: string }) {
  return (
    <Link to={`/keyring/${fingerprint}`} className="quiet-link font-mono text-sm break-all">
      {groups(fingerprint).join(" ")}
    </Link>
  );
}

function File({ batch, file }: { batch: number; file: ComparedFile }) {
  return (
    <div className="flex min-w-40 flex-col gap-0.5">
      <Link to={`/batches/${batch}/items/${file.item}`} className="quiet-link break-all">
        {file.name}
      </Link>
      <span className="flex items-center gap-2 text-sm soft">
        {bytes(file.size)} {file.verdict && <Mark word={file.verdict} />}
      </span>
    </div>
  );
}

/** Which packages a list or bill of materials names otherwise. */
function Packages({ lists }: { lists: PackageLists }) {
  return (
    <section aria-label={`Packages of ${lists.after}`}>
      <h2>Packages of {lists.after}</h2>
      {lists.trouble && <p className="border-l-4 border-warning pl-3">{lists.trouble}</p>}
      {!lists.trouble && (
        <details open={lists.changes.length <= 50}>
          <summary className="cursor-pointer text-sm">{count(lists.changes.length, "package")} otherwise</summary>
          <table className="table table-sm">
            <thead>
              <tr>
                <th>Change</th>
                <th>Package</th>
                <th>Before</th>
                <th>After</th>
              </tr>
            </thead>
            <tbody>
              {lists.changes.map((c) => (
                <tr key={c.name}>
                  <td>{c.kind === "changed" ? "other version" : kinds[c.kind]}</td>
                  <td className="break-all">{c.name}</td>
                  <td className="break-all">{c.before}</td>
                  <td className="break-all">{c.after}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </details>
      )}
    </section>
  );
}
