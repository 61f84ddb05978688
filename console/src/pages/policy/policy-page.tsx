import { type SubmitEvent, useState } from "react";

import type { Policy, PolicyVersion } from "../../api/client";
import { mayCurate, useMe } from "../../api/people";
import { usePolicies, usePolicyFields, useSetPolicy } from "../../api/policies";
import { OwnFields } from "./own-fields";
import { Reason } from "./reason";
import { shown, Value, valueOf } from "./value";
import { Waivers } from "./waivers";
import { ProblemNote } from "../../parts/problem-note";
import { JudgedAgain } from "../../parts/runs";
import { moment } from "../../parts/text";

/** The limits by which evidence is judged: those in force, and how they came to be. */
export function PolicyPage() {
  const policies = usePolicies();
  const me = useMe();
  const [editing, setEditing] = useState(false);
  if (policies.error) return <ProblemNote error={policies.error} />;
  const versions = policies.data?.items ?? [];
  const current = versions.find((v) => !v.publisher);
  if (!current) return <p>Loading…</p>;
  return (
    <div className="flex flex-col gap-5">
      <div className="flex flex-wrap items-center gap-3">
        <h1>Policy, version {current.version}</h1>
        {mayCurate(me.data) && !editing && (
          <button
            type="button"
            className="btn btn-primary btn-sm ml-auto"
            onClick={() => {
              setEditing(true);
            }}
          >
            Change it
          </button>
        )}
      </div>
      <p className="max-w-3xl">
        These are the limits by which evidence is judged. Every record names the version by which it was judged; when another comes into
        force, what was verified is judged again by it.
      </p>
      {editing ? (
        <Edit
          key={current.version}
          policy={current.document}
          newest={versions[0]?.version ?? 0}
          close={() => {
            setEditing(false);
          }}
        />
      ) : (
        <Fields policy={current.document} />
      )}
      <OwnFields versions={versions} />
      <Waivers />
      <JudgedAgain filter={{ rules: true }} />
      <History versions={versions} />
    </div>
  );
}

function Fields({ policy }: { policy: Policy }) {
  const fields = usePolicyFields();
  return (
    <dl className="rows">
      {fields.data?.items.map((f) => (
        <div key={f.name} className="grid gap-x-4 py-1.5 sm:grid-cols-[16rem_12rem_1fr]">
          <dt className="text-sm">{f.title}</dt>
          <dd className="font-semibold">{shown(valueOf(policy, f))}</dd>
          <dd className="text-sm soft">{f.does}</dd>
        </div>
      ))}
    </dl>
  );
}

function Edit({ policy, newest, close }: { policy: Policy; newest: number; close: () => void }) {
  const fields = usePolicyFields();
  const [seen] = useState(newest);
  const set = useSetPolicy(seen);
  const [draft, setDraft] = useState<Policy>(policy);
  const [reason, setReason] = useState("");
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    // Closed also where the new version has taken the form's place by then; what failed is told below.
    set.mutateAsync({ document: draft, reason }).then(close, () => undefined);
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-3 rounded-box border border-base-300 bg-base-200 p-4">
      {fields.data?.items.map((f) => (
        <label key={f.name} className="grid items-center gap-x-4 gap-y-1 sm:grid-cols-[16rem_14rem_1fr]">
          <span className="text-sm">{f.title}</span>
          <Value field={f} draft={draft} change={setDraft} />
          <span className="text-sm soft">{f.does}</span>
        </label>
      ))}
      <Reason value={reason} change={setReason} pending={set.isPending} close={close} />
      {set.error && <ProblemNote error={set.error} />}
    </form>
  );
}

function History({ versions }: { versions: PolicyVersion[] }) {
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">Changes</h2>
      <ul className="rows">
        {versions.map((v) => (
          <li key={v.version} className="py-1.5">
            <span className="font-semibold">{v.version}</span>, in force from {moment(v.created)}, by {v.by}
            {v.publisher && (
              <>
                , for <span className="font-mono">{v.publisher}</span>: {v.own.length > 0 ? v.own.join(", ") : "nothing of its own"}
              </>
            )}
            {v.reason && <span className="soft"> — {v.reason}</span>}
          </li>
        ))}
      </ul>
    </section>
  );
}
