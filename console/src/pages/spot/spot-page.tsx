import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useCallback, useDeferredValue, useEffect, useRef, useState } from "react";
import { Link } from "react-router";

import { Answer } from "./answer";
import { handed, handedTaken } from "./handed";
import { Failure, type Problem } from "../../api/client";
import { useAbsent } from "../../api/batches";
import { mayOperate, useMe } from "../../api/people";
import { shownItems, useReferences, useSpotItems } from "../../api/spot";
import { MarkedText } from "../../parts/marked-text";
import { DropArea } from "../../parts/drop-area";
import { AreaField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { reasons, type Mark as TextMark } from "../../parts/marked";
import { PublisherSelect } from "../../parts/publisher-select";
import { bytes, count, harmless, moment } from "../../parts/text";
import { Mark } from "../../parts/verdict";
import type { Check, Row } from "../../spot/check";
import type { Core } from "../../spot/core";
import type { Given, Recognised } from "../../spot/protocol";

/** The quick question: files of this machine, and what was copied from elsewhere. */
export function SpotPage() {
  const me = useMe();
  const [given, setGiven] = useState<Given[]>([]);
  const [pasted, setPasted] = useState("");
  const [publisher, setPublisher] = useState("");
  const [check, setCheck] = useState<Check>();
  /** What stood in the field when the check began. */
  const [checkedWith, setCheckedWith] = useState("");
  const [error, setError] = useState<unknown>();
  const running = useRef<{ abort: AbortController; cancelled: Set<string> }>(undefined);
  const core = useRef<Core>(undefined);
  const deferred = useDeferredValue(pasted);
  const recognised = useQuery({
    queryKey: ["recognised", deferred],
    enabled: deferred.trim() !== "",
    queryFn: async () => (await import("../../spot/core")).sharedCore().recognise(deferred.slice(0, 8 << 20)),
    staleTime: Infinity,
  });
  const useless = pasted.trim() !== "" && recognised.data ? uselessText(recognised.data) : undefined;
  const items = useSpotItems(check?.stage === "done" ? check.batch : undefined);

  const verify = useCallback(
    (files: Given[]) => {
      setGiven(files);
      if (files.length === 0) return;
      if (useless) {
        // Before anything goes on record: what was pasted could not be compared.
        setError(new Failure(useless));
        return;
      }
      running.current?.abort.abort();
      core.current?.end();
      const abort = new AbortController();
      const cancelled = new Set<string>();
      running.current = { abort, cancelled };
      setError(undefined);
      setCheckedWith(pasted);
      setCheck({ rows: [], stage: "looking" });
      void import("../../spot/check")
        .then((c) =>
          c.verifyHere({
            given: files,
            pasted,
            folder: "",
            publisher: publisher || undefined,
            signal: abort.signal,
            cancelled,
            tell: setCheck,
          }),
        )
        .then(
          (done) => {
            core.current = done.core;
          },
          (failed: unknown) => {
            if (abort.signal.aborted) return;
            setCheck(undefined);
            setError(failed);
          },
        );
    },
    [pasted, publisher, useless],
  );
  // Who drops first and pastes second gets one check of both, and none on record before.
  const [waiting, setWaiting] = useState(handed); // what was dropped on the overview
  useEffect(handedTaken, []);
  const begin = (files: Given[]) => {
    setWaiting(undefined);
    verify(files);
  };
  useEffect(() => {
    if (!waiting || pasted !== "") return;
    const timer = setTimeout(
      () => {
        setWaiting(undefined);
        verify(waiting);
      },
      waiting.length > 1 ? 0 : aMoment, // its list came along
    );
    return () => {
      clearTimeout(timer);
    };
  }, [waiting, pasted, verify]);
  useEffect(
    () => () => {
      running.current?.abort.abort();
    },
    [],
  );

  const cancel = () => {
    running.current?.abort.abort("cancelled on the spot check page");
    setCheck(undefined);
  };
  if (!mayOperate(me.data)) {
    return (
      <>
        <h1>Spot check</h1>
        <p>Verifying files takes the role of an operator. Ask whoever keeps the people here.</p>
      </>
    );
  }
  const busy = check !== undefined && check.stage !== "done";
  return (
    <div className="flex flex-col gap-5">
      <div>
        <h1>Spot check</h1>
        <p className="max-w-3xl">
          Are these files as their publisher made them? They are read in this browser and do not leave it, except for manifests, signatures
          and keys. The outcome goes on record.
        </p>
      </div>
      <div className="grid gap-4 lg:grid-cols-2">
        <DropArea
          take={(files) => {
            // With a list or a signature beside the file there is nothing to wait for.
            if (pasted === "" && files.length === 1) setWaiting(files);
            else begin(files);
          }}
        >
          <p className="text-sm soft">The file with its list of digests and its signature, if you have them.</p>
        </DropArea>
        <div className="flex flex-col gap-2">
          <AreaField
            label="What else you have"
            hint="Paste a digest, a list, or the part of a page or letter they stand in."
            className="h-24 w-full font-mono text-sm"
            value={pasted}
            change={setPasted}
          />
          <Recognition what={pasted.trim() === "" ? undefined : recognised.data} text={deferred} />
          {given.length === 0 && pasted.trim() !== "" && recognised.data?.kind === "value" && (
            <WhichRelease value={valueIn(deferred, recognised.data)} />
          )}
          <label htmlFor="spot-publisher" className="flex flex-wrap items-center gap-2 text-sm">
            Expected from
            <PublisherSelect
              id="spot-publisher"
              value={publisher}
              change={setPublisher}
              none="whoever the names of the files tell"
              className="select select-sm w-80"
            />
          </label>
          {waiting && (
            <div className="flex flex-wrap items-center gap-2" role="status" data-waiting>
              <button
                type="button"
                className="btn btn-primary btn-sm"
                onClick={() => {
                  begin(waiting);
                }}
              >
                Verify {waiting.length === 1 ? harmless(waiting[0]?.path ?? "it") : count(waiting.length, "file")}
                {pasted === "" ? " now" : " with this"}
              </button>
              {pasted === "" && (
                <span className="text-sm soft">It begins in a moment. What you paste before is compared in the same check.</span>
              )}
            </div>
          )}
          {given.length > 0 && !busy && !waiting && (
            <button
              type="button"
              className="btn btn-primary btn-sm self-start"
              onClick={() => {
                verify(given);
              }}
            >
              Verify {given.length === 1 ? harmless(given[0]?.path ?? "it") : count(given.length, "file")} again with this
            </button>
          )}
        </div>
      </div>
      {error !== undefined && <ProblemNote error={error} />}
      {busy && <Progress check={check} cancel={cancel} cancelFile={(path) => running.current?.cancelled.add(path)} />}
      {check?.stage === "done" && items.error && <ProblemNote error={items.error} />}
      {check?.stage === "done" && items.data && (
        <section role="status" className="flex flex-col gap-4" data-answers>
          <h2 className="border-b border-base-300 pb-1">
            {items.data.items.length === 0 ? "Nothing here is a file to verify" : "The answer"}
          </h2>
          {checkedWith.trim() !== pasted.trim() && (
            <p className="border-l-4 border-warning pl-3" data-old-answer>
              This answer is an older one: what stands in the field now was not compared.
            </p>
          )}
          {items.data.items.length === 0 && (
            <>
              <p>What was given are lists, signatures or keys. Add the file that they are about.</p>
              <Missing batch={check.batch ?? 0} />
            </>
          )}
          {items.data.items.map((item) => (
            <Answer key={item.n} item={item} batch={check.batch ?? 0} core={() => core.current} />
          ))}
          <p className="text-sm">
            <Link to={`/batches/${check.batch ?? 0}`} className="quiet-link">
              Batch {check.batch}
            </Link>{" "}
            has everything{items.data.items.length === shownItems && `; of its files the first ${shownItems} are shown here`}.
          </p>
        </section>
      )}
    </div>
  );
}

/** How long a check waits for what may be pasted, in milliseconds. */
const aMoment = 3000;

/** The digits of a value that stands alone in a text; empty where it is not in hexadecimal. */
function valueIn(text: string, what: Recognised): string {
  const mark = what.marks.find((m) => m.kind === "entry");
  if (!mark) return "";
  const bytes = new TextEncoder().encode(text).slice(mark.start, mark.end);
  const digits = new TextDecoder().decode(bytes).replaceAll(/[\s:.-]/g, "");
  return /^(?:[0-9a-fA-F]{2}){16,}$/.test(digits) ? digits.toLowerCase() : "";
}

/** Which file that was cleared here has a value. */
function WhichRelease({ value }: { value: string }) {
  const found = useReferences(value);
  if (value === "" || found.isPending) return null;
  if (found.error) return <ProblemNote error={found.error} />;
  if (found.data.items.length === 0) {
    return (
      <p role="status" className="text-sm" data-release="none">
        No file that was verified here has this value. Drop the file beside it, and the two are compared.
      </p>
    );
  }
  return (
    <div role="status" data-release="found">
      <p className="text-sm">Files that were cleared here and have this value:</p>
      <ul className="rows">
        {found.data.items.slice(0, shownItems).map((r) => (
          <li key={`${String(r.batch)} ${String(r.item)}`} className="flex flex-wrap items-baseline gap-3 py-1">
            <Mark word={r.now ?? "cleared"} />
            <Link to={`/batches/${String(r.batch)}/items/${String(r.item)}`} className="quiet-link break-all">
              {r.name}
            </Link>
            <span className="text-sm soft">
              {bytes(r.size)}, {moment(r.cleared)}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** Why a pasted text says nothing of a file, if that is so. */
function uselessText(what: Recognised): Problem | undefined {
  if (what.kind !== "nothing" && what.kind !== "key" && what.kind !== "receipt") return undefined;
  return {
    type: "about:blank",
    title: "Nothing to compare",
    status: 400,
    code: "nothing-given",
    detail: "What was pasted says nothing of a file, so nothing was compared and nothing is on record.",
    advice: "Paste the part with the digest, or leave the field empty.",
  };
}

/** What a pasted text was taken for. */
function Recognition({ what, text }: { what?: Recognised; text: string }) {
  if (!what) return null;
  const digests = count(what.entries, "digest");
  const says: Record<Recognised["kind"], React.ReactNode> = {
    nothing:
      "There is nothing in this text that a file can be held against: no digest of 32 to 128 digits or in base64, no checksum behind the name of one, no signature.",
    value: `A value alone: ${what.says}.`,
    list: `A text with ${digests}.`,
    "signed-text": `A signed text with ${digests}; whether its signature holds is told below.`,
    signature: "A signature.",
    receipt: `A ${what.says} of a ledger of records. It says nothing of a file by itself.`,
    key: (
      <>
        A key. It vouches for nothing by itself:{" "}
        <Link to="/keyring/import" className="quiet-link">
          import it
        </Link>
        ?
      </>
    ),
  };
  return (
    <div className="flex flex-col gap-2">
      <p role="status" className="text-sm" data-recognised={what.kind}>
        {says[what.kind]}
      </p>
      {what.marks.length > 0 && <MarkedText text={text} marks={what.marks.map(markOf)} />}
      <Reasons of={reasons(text, what.marks.map(markOf))} />
    </div>
  );
}

/** How many reasons, and lines of each, are shown. */
const mostReasons = 5;

function Reasons({ of }: { of: ReturnType<typeof reasons> }) {
  if (of.length === 0) return null;
  return (
    <ul className="flex flex-col gap-1 text-sm">
      {of.slice(0, mostReasons).map((r) => (
        <li key={r.why}>
          {r.lines.length === 1 ? "Line" : "Lines"} {r.lines.slice(0, mostReasons).join(", ")}
          {r.lines.length > mostReasons && ` and ${String(r.lines.length - mostReasons)} more`}: {harmless(r.why)}
        </li>
      ))}
      {of.length > mostReasons && <li>{of.length - mostReasons} more reasons are marked above.</li>}
    </ul>
  );
}

/** The files that lists speak of and that were not given. */
function Missing({ batch }: { batch: number }) {
  const list = useAbsent(batch, false);
  const names = list.data?.pages.flatMap((p) => p.items).map((e) => e.name) ?? [];
  if (names.length === 0) return null;
  const more = names.length - mostReasons;
  return (
    <p>
      They speak of files that are not here: {names.slice(0, mostReasons).map(harmless).join(", ")}
      {more > 0 && ` and ${list.hasNextPage ? "more" : count(more, "more file")}`}.
    </p>
  );
}

const madeOf = { entry: "read", problem: "problem", aside: "left" } as const;

const markOf = (m: Recognised["marks"][number]): TextMark => ({ start: m.start, end: m.end, made: madeOf[m.kind], why: m.says });

const stages = { looking: "Looking at what was given…", measuring: "Reading", judging: "Judging…", done: "" };

function Progress({ check, cancel, cancelFile }: { check: Check; cancel: () => void; cancelFile: (path: string) => void }) {
  const total = check.rows.reduce((sum, r) => sum + r.size, 0);
  const read = check.rows.reduce((sum, r) => sum + r.read, 0);
  const open = check.rows.filter((r) => r.state === "reading");
  const left = check.rows.filter((r) => r.state === "waiting").length;
  return (
    <section className="flex flex-col gap-2" aria-live="off">
      <div className="flex flex-wrap items-center gap-3">
        <h2>
          {stages[check.stage]} {check.stage === "measuring" && count(check.rows.length, "file")}
        </h2>
        <button type="button" className="btn btn-sm ml-auto" onClick={cancel}>
          Cancel
        </button>
      </div>
      <progress className="progress progress-primary w-full" value={total > 0 ? (100 * read) / total : 0} max={100} aria-label="Progress" />
      <p className="text-sm soft">
        {bytes(read)} of {bytes(total)} read{left > 0 && `, ${count(left, "file")} waiting`}
      </p>
      <ul className="rows">
        {open.map((row) => (
          <FileRow key={row.path} row={row} cancel={cancelFile} />
        ))}
      </ul>
    </section>
  );
}

function FileRow({ row, cancel }: { row: Row; cancel: (path: string) => void }) {
  return (
    <li className="flex flex-wrap items-center gap-3 py-1">
      <span className="break-all">{harmless(row.path)}</span>
      <span className="ml-auto text-sm soft">
        {bytes(row.read)} of {bytes(row.size)}
        {row.rate > 0 && `, ${bytes(Math.round(row.rate))}/s`}
      </span>
      <button
        type="button"
        className="btn btn-ghost btn-xs btn-square"
        aria-label={`Do not read ${harmless(row.path)}`}
        title="Do not read this one"
        onClick={() => {
          cancel(row.path);
        }}
      >
        <X size={14} aria-hidden />
      </button>
    </li>
  );
}
