import { type SubmitEvent, useState } from "react";
import { Link, useSearchParams } from "react-router";

import type { LookUp } from "../../api/client";
import { useImportFound, useLookUp, useLookUpKnown } from "../../api/imports";
import { mayOperate, useMe } from "../../api/people";
import { Back } from "../../parts/back";
import { TextField } from "../../parts/field";
import { Hex } from "../../parts/hex";
import { ProblemNote } from "../../parts/problem-note";
import { count, day } from "../../parts/text";

/** Ask the configured key directories, and see which said what. */
export function LookUpPage() {
  const [search] = useSearchParams();
  const [query, setQuery] = useState(search.get("query") ?? "");
  const me = useMe();
  const lookUp = useLookUp();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    lookUp.mutate({ query });
  };
  return (
    <div className="flex flex-col gap-5">
      <div>
        <Back to="/keyring" name="Keyring" />
        <h1>Look a key up</h1>
        <p className="max-w-3xl">
          All configured directories are asked at once, and no other. What they have is worth nothing by itself: anybody can put a key with
          any name into a directory.
        </p>
      </div>
      {mayOperate(me.data) ? (
        <form onSubmit={submit} className="flex max-w-3xl flex-wrap items-end gap-3">
          <div className="min-w-64 flex-1">
            <TextField
              label="Fingerprint, key ID or mail address"
              className="w-full font-mono"
              required
              autoComplete="off"
              value={query}
              change={setQuery}
            />
          </div>
          <button type="submit" className="btn btn-primary" disabled={lookUp.isPending}>
            {lookUp.isPending ? "Asking…" : "Ask"}
          </button>
        </form>
      ) : (
        <p>Operators look keys up.</p>
      )}
      {lookUp.error && <ProblemNote error={lookUp.error} />}
      {lookUp.data && <Answers l={lookUp.data} query={query} />}
      {mayOperate(me.data) && <Known />}
    </div>
  );
}

const says: Record<string, string> = {
  found: "has it",
  absent: "has it not",
  failed: "failed",
  "other-key": "handed out another key",
  "not-asked": "was not asked",
};
const colours: Record<string, string> = { found: "text-success", failed: "text-error", "other-key": "text-error" };

function Answers({ l, query }: { l: LookUp; query: string }) {
  const take = useImportFound();
  return (
    <>
      <section>
        <h2 className="mb-1 border-b border-base-300 pb-1">Who said what</h2>
        <ul className="rows">
          {l.answers.map((a) => (
            <li key={a.directory} className="grid gap-x-4 py-1.5 sm:grid-cols-[10rem_11rem_1fr_5rem]">
              <span className="font-semibold">{a.directory}</span>
              <span className={colours[a.outcome] ?? "soft"}>{says[a.outcome] ?? a.outcome}</span>
              <span className="text-sm wrap-anywhere">{a.detail}</span>
              <span className="text-right text-sm tabular-nums soft">{a.milliseconds} ms</span>
            </li>
          ))}
        </ul>
      </section>
      {l.notes.map((n) => (
        <p key={n} role="status" className="border-l-4 border-warning pl-3">
          {n}
        </p>
      ))}
      <section>
        <h2 className="mb-1 border-b border-base-300 pb-1">What was found</h2>
        {l.keys.length === 0 && <p>No directory has such a key.</p>}
        <ul className="rows">
          {l.keys.map((k) => (
            <li key={k.fingerprint} className="flex flex-wrap items-start gap-3 py-2">
              <div className="min-w-0 flex-1">
                <p className="font-semibold">{k.user_ids[0] ?? "A key without a valid user ID"}</p>
                <Hex value={k.fingerprint} />
                <p className="text-sm soft">
                  {k.algorithm}, made {day(k.created)}
                  {k.expires && `, expires ${day(k.expires)}`}
                  {k.revoked && `, revoked ${day(k.revoked.at)} (${k.revoked.reason})`}; at {k.directories.join(", ")};{" "}
                  {k.result === "new" ? "not in the keyring" : `${k.state} here`}
                </p>
                {k.changes.length > 0 && (
                  <ul className="list-disc pl-5 text-sm">
                    {k.changes.map((c) => (
                      <li key={c}>{c}</li>
                    ))}
                  </ul>
                )}
              </div>
              {k.result === "unchanged" || take.data?.fingerprint === k.fingerprint ? (
                <Link to={`/keyring/${k.fingerprint}`} className="btn btn-sm">
                  Open it
                </Link>
              ) : (
                <button
                  type="button"
                  className="btn btn-sm"
                  disabled={take.isPending}
                  onClick={() => {
                    take.mutate({ query, fingerprint: k.fingerprint });
                  }}
                >
                  {k.result === "new" ? "Take as a candidate" : "Add what is new"}
                </button>
              )}
            </li>
          ))}
        </ul>
        {take.error && <ProblemNote error={take.error} />}
      </section>
    </>
  );
}

function Known() {
  const known = useLookUpKnown();
  const news = known.data?.items.filter((k) => k.result === "updated") ?? [];
  return (
    <section className="flex flex-col gap-2 border-t border-base-300 pt-4">
      <h2>Look all keys up again</h2>
      <p className="text-sm">A later expiry, new subkeys and revocations are added to the keys of the keyring. Nothing known is dropped.</p>
      <button
        type="button"
        className="btn btn-sm self-start"
        disabled={known.isPending}
        onClick={() => {
          known.mutate({});
        }}
      >
        {known.isPending ? "Asking…" : "Look all of them up"}
      </button>
      {known.error && <ProblemNote error={known.error} />}
      {known.data && (
        <div role="status">
          <p>
            {count(known.data.items.length, "key")} looked up;{" "}
            {news.length === 0 ? "there was nothing new" : `about ${news.length} there was something new`}.
          </p>
          <ul className="rows">
            {news.map((k) => (
              <li key={k.fingerprint} className="py-1.5">
                <Link to={`/keyring/${k.fingerprint}`} className="quiet-link">
                  {k.user_ids[0] ?? k.fingerprint}
                </Link>
                : {k.changes.join(" ")}
              </li>
            ))}
          </ul>
        </div>
      )}
    </section>
  );
}
