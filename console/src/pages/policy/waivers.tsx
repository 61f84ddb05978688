import { type SubmitEvent, useState } from "react";
import { Link } from "react-router";

import type { Waiver } from "../../api/client";
import { mayCurate, useMe } from "../../api/people";
import { useEndWaiver, useGrantWaiver, useWaivers } from "../../api/policies";
import { among, waivableGroundValues } from "../../api/words";
import { SelectField, TextField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherField } from "../../parts/publisher-select";
import { day } from "../../parts/text";

/** Exceptions: each lifts one ground until a day, and is named in every verdict that rests on it. */
export function Waivers() {
  const waivers = useWaivers();
  const me = useMe();
  const [granting, setGranting] = useState(false);
  return (
    <section id="waivers">
      <div className="mb-1 flex items-center gap-3 border-b border-base-300 pb-1">
        <h2>Waivers</h2>
        {mayCurate(me.data) && !granting && (
          <button
            type="button"
            className="btn btn-xs ml-auto"
            onClick={() => {
              setGranting(true);
            }}
          >
            Grant a waiver
          </button>
        )}
      </div>
      {granting && (
        <Grant
          done={() => {
            setGranting(false);
          }}
        />
      )}
      {waivers.error && <ProblemNote error={waivers.error} />}
      {waivers.data?.items.length === 0 && <p className="soft">None was granted. The policy holds for everybody.</p>}
      <ul className="rows">
        {waivers.data?.items.map((w) => (
          <WaiverLine key={w.id} w={w} />
        ))}
      </ul>
    </section>
  );
}

function WaiverLine({ w }: { w: Waiver }) {
  const me = useMe();
  const [ending, setEnding] = useState(false);
  const open = w.state === "in force";
  return (
    <li className="py-1.5">
      <p>
        <span className={`font-semibold ${open ? "" : "line-through"}`}>{w.ground}</span> for{" "}
        <span className="font-mono text-sm">{[w.publisher, w.pattern].filter(Boolean).join(", ")}</span>,{" "}
        {open ? `until ${day(new Date(Date.parse(w.until) - 1).toISOString())}` : w.state}
        {w.ended && ` on ${day(w.ended)} by ${w.ended_by ?? ""}: ${w.end_reason ?? ""}`}
      </p>
      <p className="text-sm">
        {w.reason}{" "}
        <span className="soft">
          — {w.by}, {day(w.created)},{" "}
          <Link className="quiet-link" to={`/records/${String(w.record)}`}>
            record {w.record}
          </Link>
          ,{" "}
          <Link className="quiet-link" to={`/records?waiver=${String(w.record)}`}>
            what rests on it
          </Link>
        </span>
      </p>
      {open && mayCurate(me.data) && !ending && (
        <button
          type="button"
          className="btn btn-xs mt-1"
          onClick={() => {
            setEnding(true);
          }}
        >
          End it
        </button>
      )}
      {ending && (
        <End
          w={w}
          close={() => {
            setEnding(false);
          }}
        />
      )}
    </li>
  );
}

function End({ w, close }: { w: Waiver; close: () => void }) {
  const end = useEndWaiver(w.id);
  const [reason, setReason] = useState("");
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    end.mutate({ reason }, { onSuccess: close });
  };
  return (
    <form onSubmit={submit} className="mt-2 flex max-w-2xl flex-col gap-2">
      <TextField label="Why it ends" required value={reason} change={setReason} />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary btn-sm" disabled={end.isPending}>
          End the waiver
        </button>
        <button type="button" className="btn btn-sm" onClick={close}>
          Leave it
        </button>
      </div>
      {end.error && <ProblemNote error={end.error} />}
    </form>
  );
}

function Grant({ done }: { done: () => void }) {
  const grant = useGrantWaiver();
  const [form, setForm] = useState({ ground: "", publisher: "", pattern: "", until: "", reason: "" });
  const set = (field: keyof typeof form) => (text: string) => {
    setForm({ ...form, [field]: text });
  };
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    // The day that is chosen is the last on which it counts.
    const until = new Date(Date.parse(form.until) + 86_400_000).toISOString();
    const ground = among(waivableGroundValues, form.ground);
    if (!ground) return;
    grant.mutate(
      { ...form, ground, publisher: form.publisher || undefined, pattern: form.pattern || undefined, until },
      { onSuccess: done },
    );
  };
  return (
    <form onSubmit={submit} className="grid gap-3 py-3 sm:grid-cols-2">
      <SelectField label="Ground that is lifted" required value={form.ground} change={set("ground")}>
        <option value="" disabled>
          choose
        </option>
        {waivableGroundValues.map((g) => (
          <option key={g}>{g}</option>
        ))}
      </SelectField>
      <TextField label="Last day" type="date" required value={form.until} change={set("until")} />
      <PublisherField label="For the publisher" value={form.publisher} change={set("publisher")} none="any" />
      <TextField label="For files named" hint="A pattern such as lamp-ctl-*; empty for any." value={form.pattern} change={set("pattern")} />
      <div className="sm:col-span-2">
        <TextField
          label="Why the exception is granted"
          hint="Every verdict that rests on it says this."
          required
          value={form.reason}
          change={set("reason")}
        />
      </div>
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary btn-sm" disabled={grant.isPending}>
          Grant
        </button>
        <button type="button" className="btn btn-sm" onClick={done}>
          Leave it
        </button>
      </div>
      {grant.error && <ProblemNote error={grant.error} />}
    </form>
  );
}
