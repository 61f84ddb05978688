import { useId, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";

import type { Batch, ItemRow } from "../../api/client";
import { closed, useAbsent, useBatch, useCancel, useCopies } from "../../api/batches";
import { useItems } from "../../api/items";
import { mayCurate, mayOperate, useMe } from "../../api/people";
import { useReassess } from "../../api/reassessments";
import { Filter } from "../../parts/filter";
import { Comparison } from "../../parts/hex";
import { LongList } from "../../parts/long-list";
import { NotFound } from "../../parts/not-found";
import { More } from "../../parts/more";
import { DrillThere } from "../../parts/drill";
import { ProblemNote } from "../../parts/problem-note";
import { BatchProgress } from "../../parts/progress";
import { bytes, count, moment, say } from "../../parts/text";
import { countsNow, resultNow } from "../../parts/now";
import { Mark } from "../../parts/verdict";
import { WithReason } from "../../parts/with-reason";

const order = ["refused", "unproven", "cleared", "companion"] as const;

/** How many files of a batch stand together under a heading. */
const counted = (counts: Batch["counts"], group: (typeof order)[number]) =>
  group === "companion" ? (counts.companions ?? 0) : counts[group];

export function BatchPage() {
  const id = Number(useParams().batch);
  const query = useBatch(id);
  const me = useMe();
  const [verdict, setVerdict] = useState("");
  const [match, setMatch] = useState("");
  if (!Number.isInteger(id)) return <NotFound what="That is not a batch's number." />;
  if (query.error) return <ProblemNote error={query.error} />;
  const batch = query.data;
  if (!batch) return <p>Loading…</p>;
  const open = !closed(batch);
  return (
    <div className="flex flex-col gap-4">
      <Head batch={batch} />
      {open && <BatchProgress batch={batch} />}
      {open && (mayCurate(me.data) || batch.asked_by === me.data?.name) && <Cancel batch={id} />}
      {batch.note && <p className="border-l-4 border-base-300 pl-3">{batch.note}</p>}
      <div className="flex items-center gap-3">
        <Filter label="Verdict" value={verdict} options={order} onChange={setVerdict} />
        <label className="flex items-center gap-2 text-sm">
          Name
          <input
            className="input input-sm w-48"
            placeholder="*-main.img"
            maxLength={500}
            value={match}
            onChange={(e) => {
              setMatch(e.target.value);
            }}
          />
        </label>
      </div>
      <Artifacts batch={id} counts={countsNow(batch)} verdict={verdict} match={match} live={open} />
      {verdict === "" && match === "" && <CopiesList batch={id} live={open} />}
      {verdict === "" && match === "" && batch.counts.absent > 0 && <AbsentList batch={id} total={batch.counts.absent} live={open} />}
      {verdict === "" && <Others batch={id} match={match} live={open} />}
      {batch.state === "done" && mayOperate(me.data) && (
        <>
          {countsNow(batch).cleared > 0 && !batch.against && <DrillThere batch={id} depot={batch.source.kind === "depot"} />}
          <Again batch={id} />
        </>
      )}
      {batch.state === "done" && <Compare batch={id} />}
    </div>
  );
}

/** Ask what changed since another batch. */
function Compare({ batch }: { batch: number }) {
  const go = useNavigate();
  const id = useId();
  const [other, setOther] = useState("");
  return (
    <form
      className="flex items-center gap-2 border-t border-base-300 pt-2 text-sm"
      onSubmit={(e) => {
        e.preventDefault();
        void go(`/batches/${other}/compared/${String(batch)}`);
      }}
    >
      <label htmlFor={id}>What changed since batch</label>
      <input
        id={id}
        className="input input-sm w-24"
        inputMode="numeric"
        pattern="[0-9]+"
        required
        value={other}
        onChange={(e) => {
          setOther(e.target.value);
        }}
      />
      <button type="submit" className="btn btn-sm">
        Compare
      </button>
    </form>
  );
}

/** End the batch before it is done. */
function Cancel({ batch }: { batch: number }) {
  const cancel = useCancel(batch);
  return (
    <details>
      <summary className="cursor-pointer text-sm">End it before it is done</summary>
      <WithReason
        label="Why"
        hint="What is measured stays; everything else ends unproven, as not measured."
        button="Cancel the batch"
        disabled={cancel.isPending || cancel.isSuccess}
        error={cancel.error}
        submit={(reason) => {
          cancel.mutate(reason);
        }}
      />
    </details>
  );
}

/** Judge the batch again, with today's keyring, policy and waivers. */
function Again({ batch }: { batch: number }) {
  const reassess = useReassess();
  const go = useNavigate();
  return (
    <div className="border-t border-base-300 pt-2">
      <WithReason
        label="Judge it again"
        hint="With the keyring, policy and waivers of now. No file is read; say why."
        button="Judge again"
        disabled={reassess.isPending}
        error={reassess.error}
        submit={(reason) => {
          reassess.mutate({ batch, reason }, { onSuccess: (r) => void go(`/reassessments/${String(r.id)}`) });
        }}
      />
    </div>
  );
}

/** How a batch that was judged again ended, and what it is since. */
function Became({ batch, now }: { batch: Batch; now: NonNullable<Batch["now"]> }) {
  const { cleared, unproven, refused } = batch.counts;
  return (
    <p>
      {batch.verdict === now.verdict ? "When it ended it had" : `It ended ${batch.verdict ?? ""}, with`} {cleared} cleared, {unproven}{" "}
      unproven and {refused} refused.{" "}
      <Link to={`/reassessments/${now.reassessment}`} className="quiet-link">
        It was judged again
      </Link>{" "}
      on {moment(now.at)}
      {batch.verdict !== now.verdict && ` and is ${now.verdict} since`} (
      <Link to={`/records/${now.record}`} className="quiet-link">
        record {now.record}
      </Link>
      ).
    </p>
  );
}

function Head({ batch }: { batch: Batch }) {
  const expected = batch.expected?.publishers ?? [];
  const counts = countsNow(batch);
  return (
    <div>
      <div className="flex flex-wrap items-center gap-3">
        <h1>
          Batch {batch.id}: {batch.source.reference}
        </h1>
        <Mark word={resultNow(batch)} />
      </div>
      <p>
        {counts.cleared} cleared, {counts.unproven} unproven, {counts.refused} refused, {counts.absent} absent
        {counts.companions !== undefined && `, and ${count(counts.companions, "companion")}`}
      </p>
      {batch.now && <Became batch={batch} now={batch.now} />}
      {batch.against && (
        <p>
          A medium, read back against{" "}
          {batch.against.batch === undefined ? (
            "a value that was given"
          ) : (
            <Link to={`/batches/${batch.against.batch}/items/${batch.against.n ?? 0}`} className="quiet-link break-all">
              {batch.against.shown}
            </Link>
          )}
          .
        </p>
      )}
      <p className="text-sm soft">
        Asked by {batch.asked_by} on {moment(batch.created)}
        {batch.label && `, “${batch.label}”`}
        {expected.length > 0 &&
          `; expected from ${expected.join(" or ")} (${batch.expected?.how === "given" ? "as given" : "by the names of the files"})`}
        {batch.record !== undefined && (
          <>
            {"; "}
            <Link to={`/records/${batch.record}`} className="quiet-link">
              record {batch.record}
            </Link>
          </>
        )}
      </p>
    </div>
  );
}

function Artifacts({
  batch,
  counts,
  verdict,
  match,
  live,
}: {
  batch: number;
  counts: Batch["counts"];
  verdict: string;
  match: string;
  live: boolean;
}) {
  const list = useItems(batch, { verdict, match, role: "artifact" }, live);
  const items = list.data?.pages.flatMap((p) => p.items) ?? [];
  if (list.error) return <ProblemNote error={list.error} />;
  return (
    <>
      {list.isSuccess && items.length === 0 && (match !== "" || verdict !== "") && <p>No artifact fits this filter.</p>}
      {order.map((group) => {
        const rows = items.filter((i) => (i.now ?? i.verdict) === group);
        // Counted over the whole batch, unless a filter narrows it down.
        const all = match === "" && !live ? counted(counts, group) : rows.length;
        return (
          rows.length > 0 && (
            <Group
              key={group}
              title={
                group === "companion"
                  ? `${count(Math.max(all, rows.length), "companion")}, which need no clearing`
                  : `${count(Math.max(all, rows.length), "artifact")} ${group}`
              }
              items={rows}
              batch={batch}
              more={rows[rows.length - 1] === items[items.length - 1] ? list : undefined}
            />
          )
        );
      })}
      {items.some((i) => !i.settled) && <Group title="Not settled yet" items={items.filter((i) => !i.settled)} batch={batch} />}
      <More list={list}>Show more artifacts</More>
    </>
  );
}

function Others({ batch, match, live }: { batch: number; match: string; live: boolean }) {
  const list = useItems(batch, { match, role: "evidence" }, live);
  const items = list.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    items.length > 0 && (
      <>
        <Group title="Manifests, signatures and keys" items={items} batch={batch} more={list} />
        <More list={list}>Show more manifests, signatures and keys</More>
      </>
    )
  );
}

type Pages = { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };

/** Rows under a heading; what is said of several that follow each other is said once. */
function Group({ title, items, batch, more }: { title: string; items: ItemRow[]; batch: number; more?: Pages }) {
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">{title}</h2>
      <LongList rows={items} keyOf={(item) => item.n} more={more}>
        {(item, i) => (
          <div className="grid grid-cols-[6.5rem_1fr] gap-x-3 py-1.5">
            <span>
              {item.verdict ? (
                <Mark word={item.now ?? item.verdict} />
              ) : (
                <span className="text-sm soft">{item.settled ? item.role : "waiting"}</span>
              )}
              {item.now && <span className="block text-sm soft">{item.verdict} at first</span>}
            </span>
            <div className="min-w-0">
              <div className="flex flex-wrap items-baseline gap-x-3">
                <Link to={`/batches/${batch}/items/${item.n}`} className="quiet-link break-all">
                  {item.shown}
                </Link>
                <span className="text-sm soft">{bytes(item.size)}</span>
              </div>
              {items[i - 1]?.deciding !== item.deciding && <p className="text-sm break-words">{item.deciding}</p>}
            </div>
          </div>
        )}
      </LongList>
    </section>
  );
}

/** How copies of the manifests from elsewhere compare. */
function CopiesList({ batch, live }: { batch: number; live: boolean }) {
  const list = useCopies(batch, live);
  const copies = list.data?.items ?? [];
  if (copies.length === 0) return null;
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">Copies of the manifests from elsewhere</h2>
      <ul className="rows">
        {copies.map((c, i) => (
          <li key={i} className="py-1.5">
            <p className="break-all">
              {c.of}{" "}
              <span className="text-sm soft">
                {say(c.channel)}, {c.place}
              </span>
            </p>
            <p>{c.sentence}</p>
            {c.differ.map((d, j) => (
              <div key={j} className="pl-4">
                <p className="break-all">
                  {d.kind}: {d.was ? `${d.was} → ` : ""}
                  {d.name}
                </p>
                {d.before && d.after && <Comparison expected={d.before} computed={d.after} labels={["here", "copy"]} />}
              </div>
            ))}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** How many entries without a file are shown at first. */
const few = 10;

function AbsentList({ batch, total, live }: { batch: number; total: number; live: boolean }) {
  const list = useAbsent(batch, live);
  const [all, setAll] = useState(false);
  const entries = list.data?.pages.flatMap((p) => p.items) ?? [];
  const shown = all ? entries : entries.slice(0, few);
  return (
    <section className="flex flex-col">
      <h2 className="mb-1 border-b border-base-300 pb-1">Listed, and not here: {total}</h2>
      <p className="text-sm soft">That is no failure by itself.</p>
      <LongList rows={shown} keyOf={(e) => e.manifest + String(e.line) + e.name} more={all ? list : undefined}>
        {(e) => (
          <div className="grid grid-cols-[6.5rem_1fr] gap-x-3 py-1.5">
            <span>
              <Mark word="absent" />
            </span>
            <span className="break-all">
              {e.name}{" "}
              <span className="text-sm soft">
                {e.manifest}, line {e.line}
              </span>
            </span>
          </div>
        )}
      </LongList>
      {!all && total > few && (
        <button
          type="button"
          className="btn btn-sm self-start"
          onClick={() => {
            setAll(true);
          }}
        >
          Show the other {total - few}
        </button>
      )}
    </section>
  );
}
