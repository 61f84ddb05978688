import { type FormEvent, useState } from "react";
import { Link } from "react-router";

import { useImportKeys, usePublishers } from "../../api/hooks";
import { Field } from "../../parts/field";
import { Hex } from "../../parts/hex";
import { ProblemNote } from "../../parts/problem-note";
import { base64 } from "../../parts/text";

const outcomes: Record<string, string> = {
  new: "is new, and a candidate: it does not count before a curator admits it.",
  updated: "was known; what is new about it was added.",
  unchanged: "was known, and nothing about it is new.",
};

/** Import a key from a file or pasted text. */
export function ImportPage() {
  const publishers = usePublishers();
  const importKeys = useImportKeys();
  const [text, setText] = useState("");
  const [file, setFile] = useState<File | null>(null);
  const [publisher, setPublisher] = useState("");
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    const content = file ? new Uint8Array(await file.arrayBuffer()) : new TextEncoder().encode(text);
    importKeys.mutate({ data: base64(content), source: file ? file.name : "pasted text", publisher: publisher || undefined });
  };
  return (
    <div className="flex max-w-3xl flex-col gap-4">
      <h1>Import a key</h1>
      <p>
        What arrives here becomes a candidate and counts for nothing yet. Its fingerprint is to be read on independent channels first, not at the place where the key
        came from.
      </p>
      <form onSubmit={(e) => void submit(e)} className="flex flex-col gap-4">
        <Field label="Key file" hint="Armored or binary, one key or many.">
          {(id) => <input id={id} type="file" className="file-input w-full" onChange={(e) => { setFile(e.target.files?.[0] ?? null); }} />}
        </Field>
        <Field label="Or its text" hint="From BEGIN PGP PUBLIC KEY BLOCK to END PGP PUBLIC KEY BLOCK.">
          {(id) => <textarea id={id} className="textarea h-40 w-full font-mono text-sm" value={text} disabled={file !== null} onChange={(e) => { setText(e.target.value); }} />}
        </Field>
        <Field label="Said to belong to">
          {(id) => (
            <select id={id} className="select w-full" value={publisher} onChange={(e) => { setPublisher(e.target.value); }}>
              <option value="">not known yet</option>
              {publishers.data?.items.map((p) => (
                <option key={p.slug} value={p.slug}>
                  {p.name}
                </option>
              ))}
            </select>
          )}
        </Field>
        <button type="submit" className="btn btn-primary self-start" disabled={importKeys.isPending || (!file && text.trim() === "")}>
          Import
        </button>
      </form>
      {importKeys.error && <ProblemNote error={importKeys.error} />}
      {importKeys.data && (
        <div role="status" className="rounded-box border border-success/60 bg-base-200 p-3">
          {importKeys.data.keys.map((k) => (
            <p key={k.fingerprint}>
              <Link to={`/keyring/${k.fingerprint}`} className="quiet-link">
                <Hex value={k.fingerprint} />
              </Link>{" "}
              {outcomes[k.result]}
            </p>
          ))}
          {importKeys.data.notes.map((n) => (
            <p key={n}>{n}</p>
          ))}
        </div>
      )}
    </div>
  );
}
