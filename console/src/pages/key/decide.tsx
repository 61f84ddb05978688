import { type SubmitEvent, useState } from "react";

import type { Key } from "../../api/client";
import { useAdmitKey, useKeyStep } from "../../api/keyring";
import { mayCurate, useMe } from "../../api/people";
import { useAskReach } from "../../api/reassessments";
import { AreaField, SelectField, TextField } from "../../parts/field";
import { Answer } from "../../parts/inquiry";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherField } from "../../parts/publisher-select";
import { ReachPanel } from "../../parts/rejudged";
import { moment } from "../../parts/text";

/** What can be decided about a key now, by whoever looks. */
export function Decide({ k }: { k: Key }) {
  const me = useMe();
  const curator = mayCurate(me.data);
  if (k.state === "candidate") {
    const mine = k.proposal?.by === me.data?.name;
    return (
      <div className="flex flex-col gap-4 self-start">
        {k.proposal && <Proposed k={k} curator={curator} />}
        {(k.obstacles.length > 0 || !curator) && !k.proposal && <ToBeAdmitted k={k} />}
        {curator && !mine && k.obstacles.every((o) => o.before) && <AdmitForm k={k} />}
      </div>
    );
  }
  if (!curator) return null;
  return k.state === "admitted" ? (
    <Withdraw k={k} />
  ) : (
    <Step
      k={k}
      step="reconsideration"
      title="Make it a candidate again"
      says="It counts only when it is admitted again, on evidence."
      label="Why it is looked at again"
      button="Reconsider"
    />
  );
}

/** A withdrawal shows its reach first. */
function Withdraw({ k }: { k: Key }) {
  const asked = useAskReach(k.fingerprint);
  return (
    <section className="flex flex-col gap-3 self-start rounded-box border border-base-300 p-4">
      <h2>Withdraw this key</h2>
      {!asked.data && (
        <>
          <p>Its signatures would count no longer. See first what rests on it.</p>
          <button
            type="button"
            className="btn self-start"
            disabled={asked.isPending}
            onClick={() => {
              asked.mutate();
            }}
          >
            Show its reach
          </button>
        </>
      )}
      {asked.error && <ProblemNote error={asked.error} />}
      {asked.data && (
        <Answer id={asked.data.id} doing="Judging again what rests on it">
          {({ reach }) => (
            <>
              {reach && <ReachPanel reach={reach} when="is withdrawn" />}
              <Step
                k={k}
                step="withdrawal"
                title=""
                says="Records stand as they were. What rests on the key is judged again, and every changed verdict is recorded."
                label="Why it counts no longer"
                button="Withdraw"
              />
            </>
          )}
        </Answer>
      )}
    </section>
  );
}

function Proposed({ k, curator }: { k: Key; curator: boolean }) {
  const p = k.proposal;
  if (!p) return null;
  return (
    <section className="flex flex-col gap-2 rounded-box border border-primary/50 p-4">
      <h2>Proposed</h2>
      <p>
        {p.by} proposed it on {moment(p.at)} for <span className="font-semibold">{p.publisher}</span>
        {p.role === "anchor" && ", as an anchor"}
        {p.until && `, for what it signed before ${p.until.slice(0, 10)}`}: {p.reason}
      </p>
      <p className="text-sm soft">The policy asks for two curators. Another one admits it.</p>
      {curator && <Step k={k} step="decline" title="" says="" label="Why it is turned down" button="Decline the proposal" />}
    </section>
  );
}

/** A step that needs no more than a reason. */
function Step({
  k,
  step,
  title,
  says,
  label,
  button,
}: {
  k: Key;
  step: "withdrawal" | "reconsideration" | "decline";
  title: string;
  says: string;
  label: string;
  button: string;
}) {
  const go = useKeyStep(k.fingerprint, step);
  const [reason, setReason] = useState("");
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    go.mutate({ reason });
  };
  return (
    <form onSubmit={submit} className={`flex flex-col gap-3 self-start ${title && "rounded-box border border-base-300 p-4"}`}>
      {title && <h2>{title}</h2>}
      {says && <p>{says}</p>}
      <AreaField label={label} required value={reason} change={setReason} />
      <button type="submit" className="btn self-start" disabled={go.isPending}>
        {button}
      </button>
      {go.error && <ProblemNote error={go.error} />}
    </form>
  );
}

function ToBeAdmitted({ k }: { k: Key }) {
  return (
    <section className="self-start rounded-box border border-base-300 p-4">
      <h2 className="mb-1">To be admitted</h2>
      {k.obstacles.length === 0 ? (
        <p>Nothing stands in the way. A curator decides.</p>
      ) : (
        <ul className="list-disc pl-5">
          {k.obstacles.map((o, i) => (
            <li key={i}>{o.sentence}</li>
          ))}
        </ul>
      )}
    </section>
  );
}

function AdmitForm({ k }: { k: Key }) {
  const admit = useAdmitKey(k.fingerprint);
  const [typed, setTyped] = useState("");
  const [publisher, setPublisher] = useState(k.proposal?.publisher ?? k.publisher);
  const [role, setRole] = useState<"release" | "anchor">(k.proposal?.role ?? "release");
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState(k.proposal?.until?.slice(0, 10) ?? "");
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    admit.mutate({ typed, publisher, role, reason, ...(until && { until: `${until}T00:00:00Z` }) });
  };
  const past = k.obstacles.flatMap((o) => o.before ?? []).sort()[0];
  const proposes = k.two_curators && !k.proposal;
  return (
    <form onSubmit={submit} className="flex flex-col gap-3 self-start rounded-box border border-base-300 p-4">
      <h2>
        {proposes ? "Propose to admit this key" : "Admit this key"}
        {past && " for the past"}
      </h2>
      <p>
        {past
          ? "The evidence suffices for what it signed while it was good. Later signatures by it do not count."
          : "The evidence suffices. From then on its signatures count for the publisher."}
        {proposes && " Another curator has to admit what you propose."}
      </p>
      <TextField
        label="Type the fingerprint"
        hint="From your own source, not from this page."
        className="w-full font-mono"
        required
        autoComplete="off"
        value={typed}
        change={setTyped}
      />
      <div className="grid gap-3 sm:grid-cols-2">
        <PublisherField label="Counts for" value={publisher} change={setPublisher} none="choose" required />
        <SelectField
          label="Its role"
          value={role}
          onChange={(e) => {
            setRole(e.target.value === "anchor" ? "anchor" : "release");
          }}
        >
          <option value="release">signs releases</option>
          <option value="anchor">anchor: certifies other keys</option>
        </SelectField>
      </div>
      {past && (
        <TextField
          label="It counts for what it signed before"
          hint={`At the latest ${past.slice(0, 10)}, when it was good no longer.`}
          type="date"
          required
          max={past.slice(0, 10)}
          value={until}
          change={setUntil}
        />
      )}
      <AreaField label="Why it counts" required value={reason} change={setReason} />
      <button type="submit" className="btn btn-primary self-start" disabled={admit.isPending}>
        {proposes ? "Propose" : "Admit"}
      </button>
      {admit.error && <ProblemNote error={admit.error} />}
    </form>
  );
}
