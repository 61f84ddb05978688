import { type SubmitEvent, useState } from "react";
import { Link, useParams } from "react-router";

import type { Key } from "../../api/client";
import { useKey, useSightKey } from "../../api/keyring";
import { mayOperate, useMe } from "../../api/people";
import { among, sightingChannelValues } from "../../api/words";
import { Back } from "../../parts/back";
import { SelectField, TextField } from "../../parts/field";
import { Hex } from "../../parts/hex";
import { ProblemNote } from "../../parts/problem-note";
import { JudgedAgain } from "../../parts/runs";
import { day, groups, moment, say } from "../../parts/text";
import { Mark, Standing } from "../../parts/verdict";
import { Decide } from "./decide";
import { Paths } from "./paths";
import { Sightings } from "./sightings";
import { Timeline } from "./timeline";
import { Certified, Use } from "./use";

export function KeyPage() {
  const fingerprint = useParams().fingerprint ?? "";
  const query = useKey(fingerprint);
  const me = useMe();
  if (query.error) return <ProblemNote error={query.error} />;
  const k = query.data;
  if (!k) return <p>Loading…</p>;
  return (
    <div className="flex flex-col gap-6">
      <div>
        <Back to="/keyring" name="Keyring" />
        <div className="flex flex-wrap items-center gap-3">
          <h1>{k.user_ids[0] ?? "A key without a valid user ID"}</h1>
          <Standing k={k} />
          {k.role === "anchor" && <span className="rounded border border-base-300 px-1.5 text-sm font-semibold">anchor</span>}
          {k.conflict && <Mark word="conflict" />}
        </div>
        <p className="text-lg">
          <Hex value={k.fingerprint} />
        </p>
      </div>
      <div className="grid gap-6 lg:grid-cols-2">
        <Facts k={k} />
        <Decisions k={k} />
      </div>
      <Timeline k={k} />
      <Sightings k={k} />
      <Paths k={k} />
      <div className="grid gap-6 lg:grid-cols-2">
        <Use k={k} />
        <Certified k={k} />
      </div>
      <JudgedAgain filter={{ key: k.fingerprint }} />
      <div className="grid gap-6 lg:grid-cols-2">
        {mayOperate(me.data) && <SightForm k={k} />}
        <Decide k={k} />
      </div>
    </div>
  );
}

function Facts({ k }: { k: Key }) {
  const rows: [string, string][] = [
    ["Publisher", k.publisher || "not said yet"],
    ["Key", `${k.algorithm}, made ${day(k.created)}, may ${k.uses.join(" and ") || "do nothing that is stated"}`],
    ...k.subkeys.map((s): [string, string] => [
      "Subkey",
      `${s.algorithm}, made ${day(s.created)}, may ${s.uses.join(" and ") || "do nothing that is stated"}`,
    ]),
    ...k.user_ids.slice(1).map((id): [string, string] => ["Also", id]),
  ];
  if (k.expires) rows.push([k.expired ? "Expired" : "Expires", day(k.expires)]);
  if (k.revoked) rows.push(["Revoked", [`${day(k.revoked.at)}, ${k.revoked.reason}`, k.revoked.text].filter(Boolean).join(": ")]);
  if (k.until) rows.push(["Counts for", `what it signed before ${day(k.until)}`]);
  for (const r of k.revokers) rows.push(["Revoker", `${r}, named by its owner; not followed`]);
  if (k.attributes > 0) rows.push(["Attributes", `${String(k.attributes)}, such as pictures; they prove nothing`]);
  for (const other of k.namesakes) rows.push(["Warning", `another key here has the same key ID: ${groups(other).join(" ")}`]);
  rows.push(["Imported", `${moment(k.imported)} by ${k.imported_by}, from ${k.source}`]);
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">Facts</h2>
      <dl className="grid grid-cols-[6rem_1fr] gap-y-1">
        {rows.map(([name, value], i) => (
          <div key={i} className="contents">
            <dt className="soft">{name}</dt>
            <dd className="min-w-0 break-words">{value}</dd>
          </div>
        ))}
      </dl>
    </section>
  );
}

function Decisions({ k }: { k: Key }) {
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">Decisions</h2>
      {k.history.length === 0 && <p>None yet. It arrived on {moment(k.imported)} and counts for nothing.</p>}
      <ol className="rows">
        {k.history.map((h) => (
          <li key={h.record} className="py-1.5">
            <Mark word={h.to} />{" "}
            <span className="text-sm">
              {moment(h.at)} by {h.by},{" "}
              <Link className="quiet-link" to={`/records/${h.record}`}>
                record {h.record}
              </Link>
            </span>
            <p>{h.reason}</p>
            {h.until && <p className="text-sm soft">For the past: it counts for what it signed before {moment(h.until)}.</p>}
            {h.rests_on && <p className="text-sm soft">It rests on the certification by {h.rests_on.join(" or ")}.</p>}
          </li>
        ))}
      </ol>
    </section>
  );
}

function SightForm({ k }: { k: Key }) {
  const sight = useSightKey(k.fingerprint);
  const empty = { read: "", channel: "", place: "", note: "" };
  const [form, setForm] = useState(empty);
  const set = (field: keyof typeof form) => (text: string) => {
    setForm({ ...form, [field]: text });
  };
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    const channel = among(sightingChannelValues, form.channel);
    if (!channel) return;
    sight.mutate(
      { ...form, channel },
      {
        onSuccess: () => {
          setForm(empty);
        },
      },
    );
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-3 self-start rounded-box border border-base-300 p-4">
      <h2>Note a sighting</h2>
      <TextField
        label="Fingerprint as you read it"
        hint="All digits, in any case and spacing. The system compares it."
        className="w-full font-mono"
        required
        autoComplete="off"
        value={form.read}
        change={set("read")}
      />
      <div className="grid gap-3 sm:grid-cols-2">
        <SelectField label="Channel" required value={form.channel} change={set("channel")}>
          <option value="" disabled>
            choose
          </option>
          {sightingChannelValues.map((c) => (
            <option key={c} value={c}>
              {say(c)}
            </option>
          ))}
        </SelectField>
        <TextField label="Where exactly" required value={form.place} change={set("place")} />
      </div>
      <TextField label="Note" value={form.note} change={set("note")} />
      <button type="submit" className="btn self-start" disabled={sight.isPending}>
        Note it
      </button>
      {sight.error && <ProblemNote error={sight.error} />}
      {sight.data && (
        <p role="status" className="font-semibold">
          {sight.data.agrees
            ? "It agrees, and was recorded."
            : "It differs. The conflict was recorded; the key cannot be admitted until a curator resolves it."}
        </p>
      )}
    </form>
  );
}
