import { type SubmitEvent, useState } from "react";

import type { User, UserChange } from "../../api/client";
import { useAddPerson, useChangePerson, usePeople } from "../../api/people";
import { among, roleValues } from "../../api/words";
import { Choice } from "../../parts/choice";
import { SecretField, TextField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { day } from "../../parts/text";

/** All people, for an administrator. */
export function Everybody({ me }: { me: string }) {
  const people = usePeople();
  const [adding, setAdding] = useState(false);
  const close = () => {
    setAdding(false);
  };
  return (
    <section>
      <div className="mb-1 flex items-center gap-3 border-b border-base-300 pb-1">
        <h2>Everybody</h2>
        {!adding && (
          <button
            type="button"
            className="btn btn-xs ml-auto"
            onClick={() => {
              setAdding(true);
            }}
          >
            Add a person
          </button>
        )}
      </div>
      {adding && <Add close={close} />}
      {people.error && <ProblemNote error={people.error} />}
      <ul className="rows">
        {people.data?.items.map((user) => (
          <PersonLine key={user.name} user={user} me={me} />
        ))}
      </ul>
    </section>
  );
}

type Doing = "role" | "password" | "shut" | undefined;

function PersonLine({ user, me }: { user: User; me: string }) {
  const [doing, setDoing] = useState<Doing>();
  const choose = (what: Doing) => () => {
    setDoing(what);
  };
  return (
    <li className="py-1.5">
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <span className={`font-semibold ${user.disabled ? "line-through" : ""}`}>{user.full_name || user.name}</span>
        <span className="font-mono text-sm">{user.name}</span>
        <span>{user.role}</span>
        {user.disabled && <span className="font-semibold">disabled</span>}
        {user.name === me && <span className="soft">you</span>}
        <span className="text-sm soft">
          added {day(user.added)}
          {user.changed && `, changed ${day(user.changed)}`}
        </span>
        {!doing && (
          <span className="ml-auto flex gap-2">
            <button type="button" className="btn btn-xs" aria-label={`Change role of ${user.name}`} onClick={choose("role")}>
              Change role
            </button>
            {user.name !== me && (
              <button type="button" className="btn btn-xs" aria-label={`New password for ${user.name}`} onClick={choose("password")}>
                New password
              </button>
            )}
            <button
              type="button"
              className="btn btn-xs"
              aria-label={user.disabled ? `Enable ${user.name}` : `Disable ${user.name}`}
              onClick={choose("shut")}
            >
              {user.disabled ? "Enable" : "Disable"}
            </button>
          </span>
        )}
      </div>
      {doing && <ChangeForm user={user} doing={doing} close={choose(undefined)} />}
    </li>
  );
}

function ChangeForm({ user, doing, close }: { user: User; doing: Exclude<Doing, undefined>; close: () => void }) {
  const [seen] = useState(user.version);
  const change = useChangePerson(user.name, seen);
  const [role, setRole] = useState<string>(user.role);
  const [password, setPassword] = useState("");
  const [reason, setReason] = useState("");
  const wanted: Record<typeof doing, UserChange> = {
    role: { role: among(roleValues, role) },
    password: { password },
    shut: { disabled: !user.disabled },
  };
  const says = {
    role: "They have to sign in again.",
    password: "Their sessions and tokens end. Tell them the password, and have them change it.",
    shut: user.disabled
      ? "They sign in with the password they had; tokens have to be made anew."
      : "Their sessions and tokens end at once.",
  };
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    change.mutate({ ...wanted[doing], reason: reason || undefined }, { onSuccess: close });
  };
  return (
    <form onSubmit={submit} className="grid max-w-2xl items-start gap-3 py-2 sm:grid-cols-2">
      {doing === "role" && <Choice label="Role" value={role} words={roleValues} change={setRole} />}
      {doing === "password" && (
        <SecretField
          label="New password"
          hint="At least 10 characters."
          autoComplete="new-password"
          value={password}
          change={setPassword}
        />
      )}
      <TextField label="Why" hint="It goes on record with your name." maxLength={2000} value={reason} change={setReason} />
      <p className="sm:col-span-2">{says[doing]}</p>
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary btn-sm" disabled={change.isPending}>
          {doing === "shut" ? (user.disabled ? "Let them in" : "Shut them out") : "Change it"}
        </button>
        <button type="button" className="btn btn-sm" onClick={close}>
          Leave it
        </button>
      </div>
      {change.error && (
        <div className="sm:col-span-2">
          <ProblemNote error={change.error} />
        </div>
      )}
    </form>
  );
}

function Add({ close }: { close: () => void }) {
  const add = useAddPerson();
  const [form, setForm] = useState({ name: "", full_name: "", role: "operator", password: "" });
  const set = (field: keyof typeof form) => (text: string) => {
    setForm({ ...form, [field]: text });
  };
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    const role = among(roleValues, form.role);
    if (role) add.mutate({ ...form, role }, { onSuccess: close });
  };
  return (
    <form onSubmit={submit} className="grid max-w-2xl items-start gap-3 py-2 sm:grid-cols-2">
      <TextField
        label="Sign-in name"
        hint="Small letters, digits, dots, hyphens and underscores."
        required
        value={form.name}
        change={set("name")}
      />
      <TextField label="Full name" value={form.full_name} change={set("full_name")} />
      <Choice label="Role" value={form.role} words={roleValues} change={set("role")} />
      <SecretField
        label="First password"
        hint="At least 10 characters. Have them change it."
        autoComplete="new-password"
        value={form.password}
        change={set("password")}
      />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary btn-sm" disabled={add.isPending}>
          Add them
        </button>
        <button type="button" className="btn btn-sm" onClick={close}>
          Leave it
        </button>
      </div>
      {add.error && (
        <div className="sm:col-span-2">
          <ProblemNote error={add.error} />
        </div>
      )}
    </form>
  );
}
