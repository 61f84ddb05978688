import { type SubmitEvent, useState } from "react";

import type { Me, Token } from "../../api/client";
import { mayAdminister, useEndToken, useMakeToken, useTokens } from "../../api/people";
import { useDepots } from "../../api/depots";
import { among, roleValues } from "../../api/words";
import { Choice } from "../../parts/choice";
import { TextField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherField } from "../../parts/publisher-select";
import { day, moment } from "../../parts/text";

/** Tokens in force: one's own, or everybody's for an administrator. */
export function Tokens({ me }: { me: Me }) {
  const tokens = useTokens();
  const [making, setMaking] = useState(false);
  const [now] = useState(Date.now);
  const open = tokens.data?.items.filter((t) => !t.revoked && Date.parse(t.expires) > now) ?? [];
  return (
    <section>
      <div className="mb-1 flex items-center gap-3 border-b border-base-300 pb-1">
        <h2>{mayAdminister(me) ? "Tokens in force" : "Your tokens in force"}</h2>
        {!making && (
          <button
            type="button"
            className="btn btn-xs ml-auto"
            onClick={() => {
              setMaking(true);
            }}
          >
            Make a token
          </button>
        )}
      </div>
      {making && (
        <Make
          me={me}
          close={() => {
            setMaking(false);
          }}
        />
      )}
      {tokens.error && <ProblemNote error={tokens.error} />}
      {tokens.isSuccess && open.length === 0 && <p className="soft">There is none. Programs sign in with tokens; people need none here.</p>}
      <ul className="rows">
        {open.map((t) => (
          <TokenLine key={t.id} token={t} />
        ))}
      </ul>
    </section>
  );
}

function TokenLine({ token }: { token: Token }) {
  const end = useEndToken(token.id);
  const only = [...(token.depots ?? []), ...(token.publishers ?? [])];
  return (
    <li className="py-1.5">
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <span className="font-semibold">{token.label || `token ${String(token.id)}`}</span>
        <span>
          {token.owner}, {token.role}
          {only.length > 0 && `, only for ${only.join(", ")}`}
        </span>
        <span className="text-sm soft">
          until {day(token.expires)}, {token.used ? `last used ${moment(token.used)}` : "never used"}
        </span>
        <button
          type="button"
          className="btn btn-xs ml-auto"
          aria-label={`End it: the token ${token.label || String(token.id)} of ${token.owner}`}
          disabled={end.isPending}
          onClick={() => {
            end.mutate(undefined);
          }}
        >
          End it
        </button>
      </div>
      {end.error && <ProblemNote error={end.error} />}
    </li>
  );
}

function Make({ me, close }: { me: Me; close: () => void }) {
  const make = useMakeToken();
  const depots = useDepots();
  const [form, setForm] = useState<Record<"label" | "role" | "days" | "depot" | "publisher", string>>({
    label: "",
    role: me.role,
    days: "30",
    depot: "",
    publisher: "",
  });
  const set = (field: keyof typeof form) => (text: string) => {
    setForm({ ...form, [field]: text });
  };
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    make.mutate({
      label: form.label,
      role: among(roleValues, form.role),
      days: Number(form.days),
      depots: form.depot ? [form.depot] : undefined,
      publishers: form.publisher ? [form.publisher] : undefined,
    });
  };
  if (make.data) {
    return (
      <div role="status" className="my-2 flex flex-col items-start gap-2 border-l-4 border-base-300 pl-3">
        <p>This is the token. It is shown this once: copy it to where it is needed now.</p>
        <code className="break-all">{make.data.text}</code>
        <button type="button" className="btn btn-sm" onClick={close}>
          I have it
        </button>
      </div>
    );
  }
  const mine = roleValues.slice(0, roleValues.indexOf(me.role) + 1);
  return (
    <form onSubmit={submit} className="grid max-w-2xl items-start gap-3 py-2 sm:grid-cols-2">
      <TextField label="What it is for" required maxLength={200} value={form.label} change={set("label")} />
      <TextField label="Good for, in days" type="number" min={1} max={366} required value={form.days} change={set("days")} />
      <Choice label="Role" value={form.role} words={mine} change={set("role")} />
      <Choice
        label="Only for the depot"
        value={form.depot}
        none="any depot"
        words={depots.data?.items.map((d) => d.name) ?? []}
        change={set("depot")}
      />
      <PublisherField label="Only for the publisher" value={form.publisher} change={set("publisher")} none="any publisher" />
      <div className="flex gap-2 sm:col-span-2">
        <button type="submit" className="btn btn-primary btn-sm" disabled={make.isPending}>
          Make it
        </button>
        <button type="button" className="btn btn-sm" onClick={close}>
          Leave it
        </button>
      </div>
      {make.error && (
        <div className="sm:col-span-2">
          <ProblemNote error={make.error} />
        </div>
      )}
    </form>
  );
}
