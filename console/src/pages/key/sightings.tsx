import { type SubmitEvent, useState } from "react";

import type { Key, Sighting } from "../../api/client";
import { useResolveConflict } from "../../api/keyring";
import { mayCurate, useMe } from "../../api/people";
import { TextField } from "../../parts/field";
import { Comparison } from "../../parts/hex";
import { ProblemNote } from "../../parts/problem-note";
import { moment, say } from "../../parts/text";

export function Sightings({ k }: { k: Key }) {
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">
        Sightings: {k.channels_seen} of {k.channels_asked} channels agree
      </h2>
      {k.sightings.length === 0 && <p>Nobody has noted yet where this fingerprint can be read.</p>}
      <ul className="rows">
        {k.sightings.map((s) => (
          <SightingLine key={s.record} k={k} s={s} />
        ))}
      </ul>
    </section>
  );
}

function SightingLine({ k, s }: { k: Key; s: Sighting }) {
  const me = useMe();
  const [resolving, setResolving] = useState(false);
  const word = s.agrees ? "agrees" : s.resolved ? "resolved" : "conflict";
  const colour = { agrees: "text-success", resolved: "text-warning", conflict: "text-error" }[word];
  return (
    <li className="py-1.5">
      <p>
        <span className={`font-semibold ${colour}`}>{word}</span> on {say(s.channel)}: {s.place}{" "}
        <span className="text-sm soft">
          {moment(s.at)} by {s.by}
        </span>
      </p>
      {s.note && <p className="text-sm">{s.note}</p>}
      {!s.agrees && <Comparison expected={k.fingerprint} computed={s.read.replaceAll(" ", "")} labels={["the key's", "as read"]} />}
      {s.resolved && (
        <p className="text-sm">
          Resolved by {s.resolved_by}: {s.resolved}
        </p>
      )}
      {word === "conflict" && mayCurate(me.data) && !resolving && (
        <button
          type="button"
          className="btn btn-xs mt-1"
          onClick={() => {
            setResolving(true);
          }}
        >
          Resolve
        </button>
      )}
      {resolving && (
        <Resolve
          record={s.record}
          close={() => {
            setResolving(false);
          }}
        />
      )}
    </li>
  );
}

function Resolve({ record, close }: { record: number; close: () => void }) {
  const resolve = useResolveConflict();
  const [reason, setReason] = useState("");
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    resolve.mutate({ record, reason }, { onSuccess: close });
  };
  return (
    <form onSubmit={submit} className="mt-2 flex max-w-2xl flex-col gap-2">
      <TextField
        label="Why it differs"
        hint="The sighting stays, with this beside it and your name."
        required
        value={reason}
        change={setReason}
      />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary btn-sm" disabled={resolve.isPending}>
          Resolve the conflict
        </button>
        <button type="button" className="btn btn-sm" onClick={close}>
          Leave it
        </button>
      </div>
      {resolve.error && <ProblemNote error={resolve.error} />}
    </form>
  );
}
