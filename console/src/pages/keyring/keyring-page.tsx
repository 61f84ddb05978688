import { type SubmitEvent, useState } from "react";
import { Link } from "react-router";

import type { Key, Publisher } from "../../api/client";
import { useKeys } from "../../api/keyring";
import { mayCurate, mayOperate, useMe } from "../../api/people";
import { useAddPublisher, usePublishers, useSetPublisher } from "../../api/publishers";
import { Empty } from "../../parts/empty";
import { TextField } from "../../parts/field";
import { Hex } from "../../parts/hex";
import { More } from "../../parts/more";
import { ProblemNote } from "../../parts/problem-note";
import { day } from "../../parts/text";
import { Mark, Standing } from "../../parts/verdict";

const order: Record<string, number> = { candidate: 0, admitted: 1, withdrawn: 2 };

export function KeyringPage() {
  const [text, setText] = useState("");
  const keys = useKeys(text);
  const me = useMe();
  const sorted = [...(keys.data?.pages.flatMap((p) => p.items) ?? [])].sort((a, b) => (order[a.state] ?? 9) - (order[b.state] ?? 9));
  const waiting = sorted.filter((k) => k.state === "candidate" || k.conflict).length;
  return (
    <div className="flex flex-col gap-6">
      <div className="flex flex-wrap items-center gap-3">
        <h1>Keyring</h1>
        <Link to="/keyring/desk" className="btn btn-sm ml-auto">
          The desk{waiting > 0 && `: ${String(waiting)} wait`}
        </Link>
        <Link to="/keyring/look-up" className="btn btn-sm">
          Look a key up
        </Link>
        <Link to="/keyring/inspect" className="btn btn-sm">
          Look into a file
        </Link>
        {mayOperate(me.data) && (
          <Link to="/keyring/import" className="btn btn-primary btn-sm">
            Import a key
          </Link>
        )}
      </div>
      <label className="flex items-center gap-2 text-sm">
        Name or fingerprint
        <input
          className="input input-sm w-64"
          type="search"
          value={text}
          onChange={(e) => {
            setText(e.target.value);
          }}
        />
      </label>
      {keys.error && <ProblemNote error={keys.error} />}
      {keys.data && sorted.length === 0 && text !== "" && <p>No key is like that.</p>}
      {keys.data && sorted.length === 0 && text === "" && (
        <Empty>The keyring is empty. Import a publisher's key; it counts only after a curator has admitted it.</Empty>
      )}
      {sorted.length > 0 && (
        <div className="overflow-x-auto">
          <table className="table table-sm">
            <thead>
              <tr>
                <th>State</th>
                <th>Publisher</th>
                <th>Key</th>
                <th>Facts</th>
              </tr>
            </thead>
            <tbody>
              {sorted.map((k) => (
                <tr key={k.fingerprint}>
                  <td>{k.conflict ? <Mark word="conflict" /> : <Standing k={k} />}</td>
                  <td>{k.publisher || "none"}</td>
                  <td>
                    <Link to={`/keyring/${k.fingerprint}`} className="quiet-link">
                      {k.user_ids[0] ?? "no valid user ID"}
                    </Link>
                    <div>
                      <Hex value={k.fingerprint} />
                    </div>
                  </td>
                  <td className="text-sm">{facts(k)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <More list={keys}>Show more keys</More>
      <Publishers />
    </div>
  );
}

function facts(k: Key): string {
  const out = k.role === "anchor" ? [k.algorithm, "anchor"] : [k.algorithm];
  if (k.proposal) out.push(`proposed by ${k.proposal.by}`);
  if (k.state === "candidate") out.push(`${k.channels_seen} of ${k.channels_asked} channels agree`);
  if (k.revoked) out.push(`revoked ${day(k.revoked.at)} (${k.revoked.reason})`);
  if (k.until) out.push(`for what it signed before ${day(k.until)}`);
  if (k.expires) out.push(`${k.expired ? "expired" : "expires"} ${day(k.expires)}`);
  return out.join(", ");
}

function Publishers() {
  const publishers = usePublishers();
  const me = useMe();
  const [adding, setAdding] = useState(false);
  return (
    <section>
      <div className="mb-1 flex items-center gap-3 border-b border-base-300 pb-1">
        <h2>Publishers</h2>
        {mayCurate(me.data) && !adding && (
          <button
            type="button"
            className="btn btn-xs ml-auto"
            onClick={() => {
              setAdding(true);
            }}
          >
            Add a publisher
          </button>
        )}
      </div>
      {adding && (
        <NewPublisher
          done={() => {
            setAdding(false);
          }}
        />
      )}
      {publishers.error && <ProblemNote error={publishers.error} />}
      <ul className="rows">
        {publishers.data?.items.map((p) => (
          <PublisherLine key={p.slug} p={p} curator={mayCurate(me.data)} />
        ))}
      </ul>
    </section>
  );
}

function PublisherLine({ p, curator }: { p: Publisher; curator: boolean }) {
  const [changing, setChanging] = useState(false);
  return (
    <li className="py-1.5">
      <div className="grid gap-x-4 sm:grid-cols-[10rem_1fr_1fr_5rem]">
        <span className="font-semibold">{p.slug}</span>
        <span>
          {p.name}
          {p.contact && <span className="block text-sm soft">{p.contact}</span>}
        </span>
        <span className="text-sm soft">may sign {p.scope.length > 0 ? p.scope.join(", ") : "any name"}</span>
        {curator && !changing && (
          <button
            type="button"
            className="btn btn-xs justify-self-end"
            onClick={() => {
              setChanging(true);
            }}
          >
            Change<span className="sr-only"> {p.name}</span>
          </button>
        )}
      </div>
      {changing && (
        <ChangePublisher
          p={p}
          done={() => {
            setChanging(false);
          }}
        />
      )}
    </li>
  );
}

function ChangePublisher({ p, done }: { p: Publisher; done: () => void }) {
  const [seen] = useState(p.version);
  const set = useSetPublisher(p.slug, seen);
  const [form, setForm] = useState({ name: p.name, contact: p.contact, scope: p.scope.join(" ") });
  const change = (field: keyof typeof form) => (text: string) => {
    setForm({ ...form, [field]: text });
  };
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    set.mutate({ ...form, scope: form.scope.split(/[\s,]+/).filter(Boolean) }, { onSuccess: done });
  };
  return (
    <form onSubmit={submit} className="grid gap-3 py-3 sm:grid-cols-2">
      <TextField label="Name" required value={form.name} change={change("name")} />
      <TextField
        label="May sign"
        hint="Patterns of file names; they count for batches asked for from now on."
        value={form.scope}
        change={change("scope")}
      />
      <div className="sm:col-span-2">
        <TextField label="Contact" value={form.contact} change={change("contact")} />
      </div>
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary btn-sm" disabled={set.isPending}>
          Keep
        </button>
        <button type="button" className="btn btn-sm" onClick={done}>
          Leave it
        </button>
      </div>
      {set.error && <ProblemNote error={set.error} />}
    </form>
  );
}

function NewPublisher({ done }: { done: () => void }) {
  const add = useAddPublisher();
  const [form, setForm] = useState({ slug: "", name: "", contact: "", scope: "" });
  const set = (field: keyof typeof form) => (text: string) => {
    setForm({ ...form, [field]: text });
  };
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    add.mutate({ ...form, scope: form.scope.split(/[\s,]+/).filter(Boolean) }, { onSuccess: done });
  };
  return (
    <form onSubmit={submit} className="grid gap-3 py-3 sm:grid-cols-2">
      <TextField label="Short name" hint="Small letters, digits and hyphens." required value={form.slug} change={set("slug")} />
      <TextField label="Name" required value={form.name} change={set("name")} />
      <TextField
        label="May sign"
        hint="Patterns of file names, such as gauge-fw-*; empty for any."
        value={form.scope}
        change={set("scope")}
      />
      <TextField label="Contact" value={form.contact} change={set("contact")} />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary btn-sm" disabled={add.isPending}>
          Add
        </button>
        <button type="button" className="btn btn-sm" onClick={done}>
          Leave it
        </button>
      </div>
      {add.error && <ProblemNote error={add.error} />}
    </form>
  );
}
