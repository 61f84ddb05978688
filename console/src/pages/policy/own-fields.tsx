import { type SubmitEvent, useState } from "react";

import type { Policy, PolicyVersion } from "../../api/client";
import { mayCurate, useMe } from "../../api/people";
import { usePolicyFields, useSetOwnPolicy } from "../../api/policies";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherSelect } from "../../parts/publisher-select";
import { say } from "../../parts/text";
import { Reason } from "./reason";
import { shown, Value, valueOf } from "./value";

/** What single publishers have otherwise. */
export function OwnFields({ versions }: { versions: PolicyVersion[] }) {
  const me = useMe();
  const [editing, setEditing] = useState("");
  const fields = usePolicyFields();
  const fieldOf = (name: string) => fields.data?.items.find((f) => f.name === name) ?? { name, title: say(name), does: "" };
  const base = versions.find((v) => !v.publisher);
  if (!base) return null;
  const own = new Map<string, PolicyVersion>();
  for (const v of versions) if (v.publisher && !own.has(v.publisher)) own.set(v.publisher, v);
  const having = [...own.values()].filter((v) => v.own.length > 0);
  return (
    <section className="flex flex-col gap-3">
      <h2 className="border-b border-base-300 pb-1">Publishers with fields of their own</h2>
      {having.length === 0 && <p className="soft">None. Everybody is judged by the policy above.</p>}
      {having.map((v) => (
        <dl key={v.publisher} className="rows">
          {v.own.map((name) => (
            <div key={name} className="grid gap-x-4 py-1.5 sm:grid-cols-[16rem_12rem_1fr]">
              <dt className="text-sm">
                {v.publisher}: {fieldOf(name).title}
              </dt>
              <dd className="font-semibold">{shown(valueOf(v.document, fieldOf(name)))}</dd>
              <dd className="text-sm soft">instead of {shown(valueOf(base.document, fieldOf(name)))}</dd>
            </div>
          ))}
        </dl>
      ))}
      {mayCurate(me.data) && (
        <label htmlFor="own-of" className="flex items-center gap-3">
          <span>Set those of</span>
          <PublisherSelect id="own-of" value={editing} change={setEditing} none="choose a publisher" className="select select-sm w-64" />
        </label>
      )}
      {editing !== "" && (
        <Edit
          newest={versions[0]?.version ?? 0}
          key={editing}
          slug={editing}
          base={base.document}
          now={own.get(editing)}
          close={() => {
            setEditing("");
          }}
        />
      )}
    </section>
  );
}

function Edit({
  slug,
  base,
  now,
  newest,
  close,
}: {
  slug: string;
  base: Policy;
  now: PolicyVersion | undefined;
  newest: number;
  close: () => void;
}) {
  const fields = usePolicyFields();
  const [seen] = useState(newest);
  const set = useSetOwnPolicy(slug, seen);
  const [draft, setDraft] = useState<Policy>(() => ({ ...base, ...pick(now?.document, now?.own ?? []) }));
  const [own, setOwn] = useState<string[]>(now?.own ?? []);
  const [reason, setReason] = useState("");
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    // What a policy leaves out is said of a publisher that has it otherwise.
    const fieldsOfOwn = fields.data?.items.filter((f) => own.includes(f.name)).map((f) => [f.name, valueOf(draft, f) ?? []]);
    set.mutate({ fields: Object.fromEntries(fieldsOfOwn ?? []) as Partial<Policy>, reason }, { onSuccess: close });
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-3 rounded-box border border-base-300 bg-base-200 p-4">
      <p className="text-sm">Tick the fields that are different for this publisher. With none ticked it follows the policy.</p>
      {fields.data?.items.map((f) => {
        const ticked = own.includes(f.name);
        return (
          <div key={f.name} className="grid items-center gap-x-4 gap-y-1 sm:grid-cols-[16rem_14rem_1fr]">
            <label className="flex items-center gap-2 text-sm">
              <input
                type="checkbox"
                className="checkbox checkbox-sm"
                checked={ticked}
                onChange={() => {
                  setOwn(ticked ? own.filter((n) => n !== f.name) : [...own, f.name]);
                }}
              />
              {f.title}
            </label>
            {ticked ? <Value field={f} label={f.title} draft={draft} change={setDraft} /> : <span>{shown(valueOf(base, f))}</span>}
            <span className="text-sm soft">{f.does}</span>
          </div>
        );
      })}
      <Reason value={reason} change={setReason} pending={set.isPending} close={close} />
      {set.error && <ProblemNote error={set.error} />}
    </form>
  );
}

/** The named fields of a policy. */
function pick(policy: Policy | undefined, names: string[]): Partial<Policy> {
  if (!policy) return {};
  return Object.fromEntries(names.map((n) => [n, policy[n as keyof Policy]]));
}
