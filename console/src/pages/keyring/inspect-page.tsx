import { TriangleAlert } from "lucide-react";
import { type SubmitEvent, useState } from "react";

import type { Inspection, Piece } from "../../api/client";
import { useInspection } from "../../api/readings";
import { AreaField, FileField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { base64 } from "../../parts/text";

/** What a key, a signature, a signed text or a message is made of. */
export function InspectPage() {
  const inspection = useInspection();
  const [text, setText] = useState("");
  const [file, setFile] = useState<File | null>(null);
  const submit = async (event: SubmitEvent) => {
    event.preventDefault();
    inspection.mutate(base64(file ? new Uint8Array(await file.arrayBuffer()) : new TextEncoder().encode(text)));
  };
  return (
    <div className="flex flex-col gap-4">
      <h1>Look into an OpenPGP file</h1>
      <p className="max-w-3xl">
        For those who want to see for themselves: each packet of a key, a signature, a signed text or a message, what it states, and what is
        odd about it. Nothing is imported, and nothing is said about whether a key counts.
      </p>
      <form onSubmit={(e) => void submit(e)} className="flex max-w-3xl flex-col gap-3">
        <FileField
          label="File"
          hint="Armored or binary."
          take={([chosen]) => {
            setFile(chosen ?? null);
          }}
        />
        <AreaField label="Or its text" className="h-32 w-full font-mono text-sm" value={text} disabled={file !== null} change={setText} />
        <button type="submit" className="btn btn-primary self-start" disabled={inspection.isPending || (!file && text.trim() === "")}>
          Show it
        </button>
      </form>
      {inspection.error && <ProblemNote error={inspection.error} />}
      {inspection.data && <Told inspection={inspection.data} />}
    </div>
  );
}

function Told({ inspection }: { inspection: Inspection }) {
  return (
    <section role="status" className="flex flex-col gap-3">
      <h2 className="border-b border-base-300 pb-1">A {inspection.kind}</h2>
      {inspection.notes.map((n, i) => (
        <p key={i} className="wrap-anywhere">
          {n}
        </p>
      ))}
      {inspection.packets.map((p, i) => (
        <Packet key={i} packet={p} />
      ))}
      {inspection.text && (
        <div>
          <h3 className="font-semibold">The text that the signatures cover</h3>
          <pre className="overflow-x-auto rounded-box border border-base-300 p-3 text-sm whitespace-pre-wrap">{inspection.text}</pre>
        </div>
      )}
    </section>
  );
}

function Packet({ packet }: { packet: Piece }) {
  return (
    <div className="border-l-4 border-base-300 pl-3" style={{ marginLeft: `${packet.depth * 1.5}rem` }} data-packet={packet.kind}>
      <p>
        <span className="font-semibold">{packet.kind}</span>{" "}
        <span className="text-sm soft">
          at byte {packet.offset}, {packet.length} bytes
        </span>
      </p>
      <dl className="grid gap-x-4 text-sm sm:grid-cols-[14rem_1fr]">
        {packet.facts.map((f, i) => (
          <div key={i} className="contents">
            <dt className="soft">{f.name}</dt>
            <dd className="wrap-anywhere">{f.value}</dd>
          </div>
        ))}
      </dl>
      {packet.odd?.map((o, i) => (
        <p key={i} className="flex items-start gap-1.5 font-semibold">
          <TriangleAlert size={16} className="mt-1 shrink-0 text-warning" aria-hidden />
          <span>{o}</span>
        </p>
      ))}
    </div>
  );
}
