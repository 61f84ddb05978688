import { type SubmitEvent, useMemo, useState } from "react";

import type { ManifestContent } from "../../api/client";
import { useReading } from "../../api/readings";
import { MarkedText } from "../../parts/marked-text";
import { AreaField, FileField, TextField } from "../../parts/field";
import { Hex } from "../../parts/hex";
import { ProblemNote } from "../../parts/problem-note";
import type { Mark } from "../../parts/marked";
import { count } from "../../parts/text";

/** Paste a manifest, or any page with digests, and see what is understood of it. */
export function ManifestsPage() {
  const reading = useReading();
  const [text, setText] = useState("");
  const [name, setName] = useState("");
  const read = (event: SubmitEvent) => {
    event.preventDefault();
    reading.mutate({ text, name });
  };
  const take = async (file?: File) => {
    if (!file) return;
    setName(file.name);
    setText(await file.text());
  };
  return (
    <div className="flex flex-col gap-4">
      <h1>Read a manifest</h1>
      <p className="max-w-3xl">
        Paste a list of digests, or the page or message they stand in, to see what is understood of it and what is not. Nothing is verified
        or kept; to verify files, start a batch.
      </p>
      <form onSubmit={read} className="flex max-w-3xl flex-col gap-3">
        <AreaField label="Text" className="h-44 w-full font-mono text-sm" value={text} change={setText} />
        <div className="grid gap-3 sm:grid-cols-2">
          <FileField label="Or a file" take={([chosen]) => void take(chosen)} />
          <TextField
            label="Its name"
            hint="May stay empty; a name such as SHA512SUMS tells the algorithm."
            maxLength={255}
            value={name}
            change={setName}
          />
        </div>
        <button type="submit" className="btn btn-primary self-start" disabled={text.trim() === "" || reading.isPending}>
          Read it
        </button>
      </form>
      {reading.error && <ProblemNote error={reading.error} />}
      {reading.data && <Understood reading={reading.data} />}
      {reading.data && <PartByPart text={reading.variables.text} reading={reading.data} />}
    </div>
  );
}

/** The text that was read, with each part marked by what was made of it. */
function PartByPart({ text, reading }: { text: string; reading: ManifestContent }) {
  const marks = useMemo(
    (): Mark[] => [
      ...reading.entries.map((e) => ({ ...e.span, made: "read" as const, why: "read" })),
      ...reading.left_aside.map((a) => ({ ...a.span, made: "left" as const, why: a.why })),
      ...reading.problems.map((p) => ({ ...p.span, made: "problem" as const, why: p.message })),
    ],
    [reading],
  );
  return (
    <section className="flex flex-col gap-2" aria-label="What was made of each part">
      <h3 className="font-semibold">The text, part by part</h3>
      <MarkedText text={text} marks={marks} />
    </section>
  );
}

function Understood({ reading }: { reading: ManifestContent }) {
  return (
    <section role="status" className="flex flex-col gap-3">
      <h2 className="border-b border-base-300 pb-1">
        {reading.entries.length === 0
          ? "Nothing in it is understood as the digest of a file"
          : `${count(reading.entries.length, "entry", "entries")}, written as ${reading.format}`}
      </h2>
      {reading.format === "free-text" && (
        <p>
          These digests were found in prose: each is tied to the file name and the algorithm that stand nearest. Check that they belong
          together.
        </p>
      )}
      {reading.cut && <p>There are more entries; only the first are shown.</p>}
      <ul className="rows">
        {reading.entries.map((e, i) => (
          <li key={i} className="py-1.5">
            <p>
              <span className="font-semibold break-all">{e.name || "(no file name stated)"}</span>{" "}
              <span className="text-sm soft">
                line {e.line}, {e.algorithm ?? e.candidates.join(" or ")}
                {e.size !== null && `, ${e.size} bytes${e.guessed?.includes("size") ? " by a guess, which decides nothing" : ""}`}
                {e.guessed?.includes("digest") && ", by a guess, which decides nothing"}
              </span>
            </p>
            <Hex value={e.digest} />
          </li>
        ))}
      </ul>
      {reading.problems.length > 0 && (
        <div>
          <h3 className="font-semibold">Not used</h3>
          <ul className="rows">
            {reading.problems.map((p, i) => (
              <li key={i} className="py-1 break-words">
                Line {p.line}: {p.message}.
              </li>
            ))}
          </ul>
          {reading.more_problems > 0 && <p>and {reading.more_problems} more</p>}
        </div>
      )}
      {reading.left_aside.length > 0 && <LeftAside reading={reading} />}
    </section>
  );
}

/** What has the form of a digest and was used for nothing; equal reasons are told once. */
function LeftAside({ reading }: { reading: ManifestContent }) {
  const reasons = new Map<string, ManifestContent["left_aside"]>();
  for (const a of reading.left_aside) reasons.set(a.why, [...(reasons.get(a.why) ?? []), a]);
  return (
    <div>
      <h3 className="font-semibold">Left aside</h3>
      <ul className="rows">
        {[...reasons].map(([why, parts]) => (
          <li key={why} className="py-1 break-words">
            {parts.length === 1 ? `Line ${parts[0]?.line}` : `${parts.length} parts, the first in line ${parts[0]?.line}`}: {why}.
          </li>
        ))}
      </ul>
      {reading.more_left_aside > 0 && <p>and {reading.more_left_aside} more</p>}
    </div>
  );
}
