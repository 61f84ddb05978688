import { useState } from "react";
import { Link } from "react-router";

import { useAttention, useSettle } from "../../api/attention";
import type { Attention } from "../../api/client";
import { mayCurate, mayOperate, useMe } from "../../api/people";
import { Back } from "../../parts/back";
import { Empty } from "../../parts/empty";
import { More } from "../../parts/more";
import { ProblemNote } from "../../parts/problem-note";
import { moment } from "../../parts/text";
import { Mark } from "../../parts/verdict";
import { WithReason } from "../../parts/with-reason";

/** What needs attention: each entry with its reason, what helps, and a way to settle it. */
export function AttentionPage() {
  const list = useAttention();
  if (list.error) return <ProblemNote error={list.error} />;
  const entries = list.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <div className="flex flex-col gap-4">
      <div>
        <Back to="/" name="Overview" />
        <h1>What needs attention</h1>
        <p className="max-w-3xl text-sm soft">
          A batch leaves this list when a later batch of the same place is cleared, when it is cleared by being judged again, or when
          somebody settles it. It comes back when something about it changes.
        </p>
      </div>
      {list.data && entries.length === 0 && <Empty>Nothing needs attention.</Empty>}
      <ul className="rows">
        {entries.map((e, i) => (
          <Entry key={e.batch?.id ?? `${e.word} ${e.key?.fingerprint ?? ""}`} e={e} before={entries[i - 1]} />
        ))}
      </ul>
      <More list={list}>Show more</More>
    </div>
  );
}

/** One entry. What was said of the one before as well is said once. */
function Entry({ e, before }: { e: Attention; before?: Attention }) {
  const me = useMe();
  const said = before?.word === e.word && before.why === e.why && before.act === e.act;
  const may = e.batch ? mayOperate(me.data) : mayCurate(me.data) && e.word !== "conflict";
  return (
    <li className="grid gap-x-4 gap-y-1 py-2 sm:grid-cols-[7rem_1fr]">
      <span>
        <Mark word={e.word} />
      </span>
      <div className="min-w-0">
        <p className="flex flex-wrap items-baseline gap-x-3">
          {e.batch ? (
            <Link to={`/batches/${e.batch.id}`} className="quiet-link break-all">
              Batch {e.batch.id}: {e.batch.source.reference}
            </Link>
          ) : (
            <Link to={`/keyring/${e.key?.fingerprint ?? ""}`} className="quiet-link break-all">
              {e.key?.user_ids[0] ?? e.key?.grouped}
            </Link>
          )}
          <span className="text-sm soft">
            {e.batch && moment(e.batch.created)}
            {e.key?.publisher && `for ${e.key.publisher}`}
          </span>
        </p>
        <p className="break-words">
          {e.batch && e.path && (
            <>
              <Link to={`/batches/${e.batch.id}/items/${e.n ?? 0}`} className={`quiet-link break-all ${said ? "inline-block py-1" : ""}`}>
                {e.path}
              </Link>
              {!said && ": "}
            </>
          )}
          {!said && e.why}
        </p>
        {e.act && !said && <p className="text-sm break-words">→ {e.act}</p>}
        {may && <Settle e={e} />}
      </div>
    </li>
  );
}

function Settle({ e }: { e: Attention }) {
  const settle = useSettle(e);
  const [open, setOpen] = useState(false);
  if (!open) {
    return (
      <button
        type="button"
        className="btn btn-xs mt-1"
        onClick={() => {
          setOpen(true);
        }}
      >
        Settle it
      </button>
    );
  }
  return (
    <WithReason
      label="Why it needs no attention as it is"
      hint="This goes on record; the verdict stays."
      button="Settle"
      disabled={settle.isPending}
      error={settle.error}
      submit={(reason) => {
        settle.mutate({ reason });
      }}
    />
  );
}
