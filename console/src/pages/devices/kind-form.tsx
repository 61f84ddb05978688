import { useState, type SubmitEvent } from "react";

import { useDeviceKinds, useRetireKind, useSetKind, useTryKind, type DeviceKind, type KindTrial } from "../../api/devices";
import { AreaField, SelectField, TextField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { Tried } from "./tried";

/** Describes a kind of device: the description, what such a device has said, and what is read of it. */
export function KindForm({ done }: { done: () => void }) {
  const kinds = useDeviceKinds();
  const tried = useTryKind();
  const set = useSetKind();
  const [text, setText] = useState("");
  const [answer, setAnswer] = useState("");
  const [slot, setSlot] = useState("");
  const trial: KindTrial = { text, answer, slot: slot.trim() === "" ? undefined : slot.trim() };
  // What was tried counts for exactly what stands in the fields.
  const same = tried.variables && JSON.stringify(tried.variables) === JSON.stringify(trial);
  const works = same && tried.data && !tried.data.finding;
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    tried.mutate(trial);
  };
  return (
    <form onSubmit={submit} className="grid gap-3 rounded-box border border-base-300 bg-base-200 p-4">
      <SelectField
        label="Begin with the description of"
        className="w-full max-w-md"
        value=""
        onChange={(e) => {
          setText(kinds.data?.items.find((k) => k.name === e.target.value)?.text ?? "");
        }}
      >
        <option value="" disabled>
          choose a kind
        </option>
        {kinds.data?.items.map((k) => (
          <option key={k.name} value={k.name}>
            {k.title}
          </option>
        ))}
      </SelectField>
      <div className="grid gap-3 lg:grid-cols-2">
        <AreaField
          label="Description"
          hint="Give it a name of its own in the line that begins with kind."
          className="h-72 w-full font-mono text-sm"
          required
          maxLength={16384}
          spellCheck={false}
          value={text}
          change={setText}
        />
        <AreaField
          label="What such a device has said"
          hint="Of a console from the question to the prompt behind the answer."
          className="h-72 w-full font-mono text-sm"
          required
          spellCheck={false}
          value={answer}
          change={setAnswer}
        />
      </div>
      <TextField
        label="About which slot"
        hint="Its short name in the description, such as a. It may be left out where there is one."
        className="w-full max-w-md"
        maxLength={60}
        value={slot}
        change={setSlot}
      />
      {same && tried.error && <ProblemNote error={tried.error} />}
      {same && tried.data && <Tried tried={tried.data} />}
      {set.error && <ProblemNote error={set.error} />}
      <div className="flex gap-2">
        <button type="submit" className={`btn ${works ? "" : "btn-primary"}`} disabled={tried.isPending}>
          Try it
        </button>
        <button
          type="button"
          className={`btn ${works ? "btn-primary" : ""}`}
          disabled={!works || set.isPending}
          onClick={() => {
            set.mutate(trial, { onSuccess: done });
          }}
        >
          Keep the kind
        </button>
        <button type="button" className="btn" onClick={done}>
          Close
        </button>
      </div>
    </form>
  );
}

/** The kinds that people here have described. */
export function OwnKinds({ mayRetire }: { mayRetire: boolean }) {
  const kinds = useDeviceKinds();
  const own = kinds.data?.items.filter((k) => k.by) ?? [];
  if (own.length === 0) return null;
  return (
    <section className="flex flex-col gap-2">
      <h2>Kinds described here</h2>
      <ul className="rows">
        {own.map((k) => (
          <Own key={k.name} kind={k} mayRetire={mayRetire} />
        ))}
      </ul>
    </section>
  );
}

function Own({ kind, mayRetire }: { kind: DeviceKind; mayRetire: boolean }) {
  const retire = useRetireKind(kind.name);
  const [reason, setReason] = useState<string>();
  return (
    <li className="flex flex-col gap-2 py-2">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <span className="font-semibold">{kind.title}</span>
        <span className="text-sm soft">
          {kind.name}, described by {kind.by}
        </span>
        {mayRetire && reason === undefined && (
          <button
            type="button"
            className="btn btn-xs ml-auto"
            onClick={() => {
              setReason("");
            }}
          >
            Retire…
          </button>
        )}
      </div>
      {reason !== undefined && (
        <form
          className="flex flex-wrap items-end gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            retire.mutate(reason);
          }}
        >
          <TextField label="Why" className="w-80" required maxLength={1000} value={reason} change={setReason} />
          <button type="submit" className="btn" disabled={retire.isPending}>
            Retire the kind
          </button>
        </form>
      )}
      {retire.error && <ProblemNote error={retire.error} />}
    </li>
  );
}
