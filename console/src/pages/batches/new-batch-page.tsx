import { File, Folder } from "lucide-react";
import { type SubmitEvent, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";

import type { Correction } from "../../api/client";
import { useRunBatch } from "../../api/batches";
import { useDepots, useFolder } from "../../api/depots";
import { DropArea } from "../../parts/drop-area";
import { hand } from "../spot/handed";
import { TextField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherField } from "../../parts/publisher-select";
import { bytes, count, harmless, words } from "../../parts/text";
import { type Against, nothing } from "./copies-form";
import { SurveyPanel } from "./survey-panel";

/** Choose a folder of a depot, look at what lies in it, and verify it. */
export function NewBatchPage() {
  const [search, setSearch] = useSearchParams();
  const go = useNavigate();
  const depots = useDepots();
  const depot = search.get("depot") ?? depots.data?.items[0]?.name ?? "";
  const path = search.get("path") ?? "";
  const folder = useFolder(depot, path);
  const [corrections, setCorrections] = useState<Correction[]>([]);
  const [against, hold] = useState<Against>(nothing);
  const open = (next: string) => {
    setCorrections([]);
    hold(nothing);
    setSearch({ depot, path: next });
  };
  const parts = path === "" ? [] : path.split("/");
  const files = folder.data?.items.filter((e) => !e.folder) ?? [];
  return (
    <div className="flex flex-col gap-4">
      <h1>Verify a folder</h1>
      <details className="max-w-3xl">
        <summary className="cursor-pointer">It is on this machine, and in no depot</summary>
        <div className="py-2">
          <DropArea
            take={(given) => {
              hand(given);
              void go("/spot");
            }}
          >
            <p className="text-sm soft">It is read in this browser; nothing is sent of it but manifests, signatures and keys.</p>
          </DropArea>
        </div>
      </details>
      {depots.error && <ProblemNote error={depots.error} />}
      <div className="grid gap-6 lg:grid-cols-[1fr_20rem]">
        <section aria-label="Folder">
          <div className="flex flex-wrap items-center gap-1 border-b border-base-300 pb-2">
            <select
              aria-label="Depot"
              className="select select-sm w-auto"
              value={depot}
              onChange={(e) => {
                setSearch({ depot: e.target.value });
              }}
            >
              {depots.data?.items.map((d) => (
                <option key={d.name}>{d.name}</option>
              ))}
            </select>
            <button
              type="button"
              className="btn btn-ghost btn-sm px-1.5"
              onClick={() => {
                open("");
              }}
            >
              top
            </button>
            {parts.map((part, i) => (
              <span key={i} className="flex items-center gap-1">
                /
                <button
                  type="button"
                  className="btn btn-ghost btn-sm px-1.5"
                  onClick={() => {
                    open(parts.slice(0, i + 1).join("/"));
                  }}
                >
                  {harmless(part)}
                </button>
              </span>
            ))}
          </div>
          {folder.error && <ProblemNote error={folder.error} />}
          {folder.data?.items.length === 0 && <p className="py-4">This folder is empty: there is nothing to verify.</p>}
          <ul className="rows">
            {folder.data?.items.map((entry) => (
              <li key={entry.name} className="flex items-center gap-2 py-1">
                {entry.folder ? (
                  <button
                    type="button"
                    className="flex flex-1 items-center gap-2 rounded px-1 text-left font-semibold hover:bg-base-200"
                    onClick={() => {
                      open([...parts, entry.name].join("/"));
                    }}
                  >
                    <Folder size={16} className="text-primary" aria-hidden />
                    {harmless(entry.name)}
                  </button>
                ) : (
                  <span className="flex flex-1 items-center gap-2 px-1">
                    <File size={16} className="soft" aria-hidden />
                    <span className="min-w-0 flex-1 break-words">{harmless(entry.name)}</span>
                    <span className="text-sm soft">{bytes(entry.size)}</span>
                  </span>
                )}
              </li>
            ))}
          </ul>
          {folder.isSuccess && (
            <SurveyPanel
              key={depot + path}
              depot={depot}
              path={path}
              corrections={corrections}
              correct={setCorrections}
              against={against}
              hold={hold}
            />
          )}
        </section>
        <RunForm
          key={depot + path}
          depot={depot}
          path={path}
          files={files.length}
          ready={folder.isSuccess}
          corrections={corrections}
          against={against}
        />
      </div>
    </div>
  );
}

interface RunProps {
  depot: string;
  path: string;
  files: number;
  ready: boolean;
  corrections: Correction[];
  against: Against;
}

function RunForm({ depot, path, files, ready, corrections, against }: RunProps) {
  const run = useRunBatch();
  const go = useNavigate();
  const [publisher, setPublisher] = useState("");
  const [label, setLabel] = useState("");
  const [requireAll, setRequireAll] = useState(false);
  const [companions, setCompanions] = useState("");
  const [key] = useState(() => crypto.randomUUID());
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    run.mutate(
      { depot, path, publisher, label, requireAll, companions: words(companions), key, corrections, ...against },
      { onSuccess: (batch) => void go(`/batches/${batch.id}`) },
    );
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-4 self-start rounded-box border border-base-300 bg-base-200 p-4">
      <p>
        <span className="font-semibold break-words">
          {depot}:{harmless(path)}
        </span>
        <br />
        <span className="text-sm soft">{files > 0 ? `${count(files, "file")} here, and all folders below` : "all folders below"}</span>
      </p>
      <PublisherField
        label="Expected publisher"
        hint="Left open, the names of the files tell."
        value={publisher}
        change={setPublisher}
        none="by file names"
      />
      <TextField label="Label" hint="To find the batch by; may stay empty." maxLength={200} value={label} change={setLabel} />
      <TextField
        label="Companions"
        hint="Files that come along and need no clearing, such as *.txt; may stay empty."
        value={companions}
        change={setCompanions}
      />
      <label className="flex items-start gap-2">
        <input
          type="checkbox"
          className="checkbox checkbox-sm mt-0.5"
          checked={requireAll}
          onChange={(e) => {
            setRequireAll(e.target.checked);
          }}
        />
        <span>Refuse the batch when listed files are not here</span>
      </label>
      {corrections.length > 0 && (
        <p className="text-sm">{count(corrections.length, "signature")} paired by hand; this becomes part of the record.</p>
      )}
      {against.copies.length > 0 && (
        <p className="text-sm">Held against {count(against.copies.length, "copy", "copies")} of its manifests.</p>
      )}
      <button type="submit" className="btn btn-primary" disabled={!ready || run.isPending}>
        Verify this folder
      </button>
      {run.error && <ProblemNote error={run.error} />}
    </form>
  );
}
