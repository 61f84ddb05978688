import { type SubmitEvent, useState } from "react";
import { Link } from "react-router";

import type { Import, ImportedPackets } from "../../api/client";
import { type Progress, useImportKeys, usePreviewImport } from "../../api/imports";
import { AreaField, FileField } from "../../parts/field";
import { Hex } from "../../parts/hex";
import { Answer } from "../../parts/inquiry";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherField } from "../../parts/publisher-select";
import { ReachPanel } from "../../parts/rejudged";
import { count, day } from "../../parts/text";

const outcomes: Record<string, [done: string, planned: string]> = {
  new: [
    "is new, and a candidate: it does not count before a curator admits it.",
    "is new. It will be a candidate, and count for nothing before a curator admits it.",
  ],
  updated: ["was known; what is new about it was added.", "is known. What is new about it will be added:"],
  unchanged: ["was known, and nothing about it is new.", "is known, and nothing about it is new."],
};

/** Import a key from a file or pasted text. */
export function ImportPage() {
  const [progress, setProgress] = useState<Progress>();
  const importKeys = useImportKeys(setProgress);
  const preview = usePreviewImport(setProgress);
  const [text, setText] = useState("");
  const [files, setFiles] = useState<File[]>([]);
  const [publisher, setPublisher] = useState("");
  const parts = () =>
    files.length > 0 ? files.map((f) => ({ source: f.name, content: f })) : [{ source: "pasted text", content: new Blob([text]) }];
  const show = (event: SubmitEvent) => {
    event.preventDefault();
    importKeys.reset();
    setProgress(undefined);
    preview.mutate(parts());
  };
  const submit = () => {
    setProgress(undefined);
    importKeys.mutate(
      { files: parts(), publisher },
      {
        onSuccess: () => {
          preview.reset();
        },
      },
    );
  };
  return (
    <div className="flex max-w-3xl flex-col gap-4">
      <h1>Import a key</h1>
      <p>
        What arrives here becomes a candidate and counts for nothing yet. Its fingerprint is to be read on independent channels first, not
        at the place where the key came from.
      </p>
      <form onSubmit={show} className="flex flex-col gap-4">
        <FileField
          label="Key files"
          hint="Armored or binary, one key or many in each; all files of a folder can be chosen at once."
          multiple
          take={setFiles}
        />
        <AreaField
          label="Or its text"
          hint="From BEGIN PGP PUBLIC KEY BLOCK to END PGP PUBLIC KEY BLOCK."
          className="h-40 w-full font-mono text-sm"
          value={text}
          disabled={files.length > 0}
          change={setText}
        />
        <PublisherField label="Said to belong to" value={publisher} change={setPublisher} none="not known yet" />
        <button
          type="submit"
          className="btn btn-primary self-start"
          disabled={preview.isPending || (files.length === 0 && text.trim() === "")}
        >
          Look at it first
        </button>
      </form>
      {preview.isPending && <Going doing="Reading the keys" progress={progress} />}
      {preview.error && <ProblemNote error={preview.error} />}
      {preview.data && (
        <section className="flex flex-col gap-3 rounded-box border border-base-300 bg-base-200 p-4" aria-label="What would be imported">
          <h2>What would be imported</h2>
          <Keys read={preview.data} planned />
          <button type="button" className="btn btn-primary self-start" disabled={importKeys.isPending} onClick={submit}>
            Import
          </button>
        </section>
      )}
      {importKeys.isPending && <Going doing="Importing" progress={progress} />}
      {importKeys.error && <ProblemNote error={importKeys.error} />}
      {importKeys.data && (
        <div role="status" className="rounded-box border border-success/60 bg-base-200 p-3">
          <Keys read={importKeys.data} planned={false} />
        </div>
      )}
    </div>
  );
}

/** How far a file has been worked on. */
function Going({ doing, progress }: { doing: string; progress: Progress | undefined }) {
  return (
    <div role="status">
      <progress className="progress progress-primary w-full" value={progress?.done} max={progress?.total ?? 1} aria-label="Progress" />
      <p className="text-sm soft">
        {doing}
        {progress && `: ${String(progress.done)} of ${String(progress.total)} of ${progress.file}`}
      </p>
    </div>
  );
}

/** The keys of a file, with what becomes of each. */
function Keys({ read, planned }: { read: Import; planned: boolean }) {
  const [all, setAll] = useState(false);
  const first = 50;
  return (
    <>
      {read.keys.length > first && <p>{count(read.keys.length, "key")}.</p>}
      <ul className="rows">
        {read.keys.slice(0, all ? undefined : first).map((k) => (
          <li key={k.fingerprint} className="py-2">
            <p className="font-semibold">
              {k.user_ids[0] ?? "A key without a valid user ID"}
              {k.user_ids.length > 1 && <span className="soft"> and {k.user_ids.length - 1} more names</span>}
            </p>
            <p>
              {planned && k.result === "new" ? (
                <Hex value={k.fingerprint} />
              ) : (
                <Link to={`/keyring/${k.fingerprint}`} className="quiet-link">
                  <Hex value={k.fingerprint} />
                </Link>
              )}
            </p>
            <p className="text-sm soft">
              {k.algorithm}, made {day(k.created)}
              {k.subkeys > 0 && `, ${count(k.subkeys, "subkey")}`}
              {k.expires && `, until ${day(k.expires)}`}
              {k.revoked && `, revoked ${day(k.revoked.at)} (${k.revoked.reason})`}
              {k.result !== "new" && `, ${k.state}`}
              {k.publisher && ` for ${k.publisher}`}
            </p>
            <p>It {outcomes[k.result]?.[planned ? 1 : 0]}</p>
            {k.changes.length > 0 && (
              <ul className="list-disc pl-5">
                {k.changes.map((c) => (
                  <li key={c}>{c}</li>
                ))}
              </ul>
            )}
            {k.reach !== undefined && (
              <Answer id={k.reach} doing="Judging again what rests on it">
                {({ reach }) => reach && reach.rests > 0 && <ReachPanel reach={reach} when="is imported" />}
              </Answer>
            )}
          </li>
        ))}
      </ul>
      {!all && read.keys.length > first && (
        <button
          type="button"
          className="btn self-start"
          onClick={() => {
            setAll(true);
          }}
        >
          Show the other {read.keys.length - first}
        </button>
      )}
      {read.notes.map((n) => (
        <p key={n}>{n}</p>
      ))}
      <PacketsTable packets={read.packets} ofOne={read.keys.length === 1} />
    </>
  );
}

/** What becomes of a packet, in words. */
const standings: Record<ImportedPackets["became"], string> = {
  counts: "counted",
  idle: "kept, not counted",
  dropped: "dropped",
};

/** What became of each packet that keys were read from. */
function PacketsTable({ packets, ofOne }: { packets: ImportedPackets[]; ofOne: boolean }) {
  const total = packets.reduce((sum, p) => sum + p.packets, 0);
  if (packets.every((p) => p.became === "counts")) {
    return total > 0 && <p className="text-sm soft">{total === 1 ? "The one packet counts." : `All ${String(total)} packets count.`}</p>;
  }
  return (
    <div>
      <h3>What became of the {total} packets</h3>
      <table className="table">
        <thead>
          <tr>
            <th className="text-right">Packets</th>
            <th>What became of them</th>
            <th>What they are</th>
            {!ofOne && <th>Of</th>}
          </tr>
        </thead>
        <tbody>
          {packets.map((p) => (
            <tr key={p.became + p.why} className="align-top">
              <td className="text-right tabular-nums">{p.packets}</td>
              <td>{standings[p.became]}</td>
              <td>{p.why}</td>
              {!ofOne && <td>{p.keys === 1 ? p.fingerprints.map((f) => <Hex key={f} value={f} />) : count(p.keys, "key")}</td>}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
