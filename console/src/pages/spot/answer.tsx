import { useState } from "react";
import { Link } from "react-router";

import { api, askRaw, type Ground, type Item } from "../../api/client";
import { useDrill } from "../../api/spot";
import { DrillTable } from "../../parts/drill";
import { Causes } from "../../parts/causes";
import { Comparison, Hex } from "../../parts/hex";
import { ProblemNote } from "../../parts/problem-note";
import { bytes } from "../../parts/text";
import { Mark } from "../../parts/verdict";
import type { Core } from "../../spot/core";
import type { DrillAssignment } from "../../spot/protocol";

/** The answer for one file: the verdict, the reason that matters, the values, what is missing. */
export function Answer({ item, batch, core }: { item: Item; batch: number; core: () => Core | undefined }) {
  const against = item.grounds.filter((g) => g.effect === "refuses" || g.effect === "withholds");
  const refusing = against.filter((g) => g.effect === "refuses");
  const decisive = strongest(refusing.length > 0 ? refusing : against);
  const match = [...item.grounds]
    .filter((g) => g.code === "digest-match")
    .sort((a, b) => (b.computed ?? "").length - (a.computed ?? "").length)[0];
  return (
    <article className="flex flex-col gap-2 rounded-box border border-base-300 p-4" data-verdict={item.verdict ?? ""}>
      <p className="flex flex-wrap items-center gap-2">
        {item.verdict && <Mark word={item.verdict} />}
        <span className="font-semibold break-all">{item.shown}</span>
        <span className="text-sm soft">{bytes(item.size)}</span>
      </p>
      {item.verdict === "unproven" && <p className="font-semibold">{item.compared && compared[item.compared]}</p>}
      {item.verdict === "cleared" ? <p>{item.deciding}</p> : decisive.map((g, i) => <Reason key={i} ground={g} />)}
      {match?.computed && (
        <div>
          <p className="text-sm soft">
            {match.algorithm}, as {match.source}
            {match.line !== undefined && `, line ${match.line}`} states it:
          </p>
          <Hex value={match.computed} />
        </div>
      )}
      <p className="text-sm">
        <Link to={`/batches/${batch}/items/${item.n}`} className="quiet-link">
          Every link of the evidence
        </Link>
        {item.record !== undefined && (
          <>
            {", "}
            <Link to={`/records/${item.record}`} className="quiet-link">
              record {item.record}
            </Link>
          </>
        )}
      </p>
      {item.verdict === "cleared" && !item.inside && <Prove item={item} batch={batch} core={core} />}
    </article>
  );
}

/** Three things that all are unproven. */
const compared = {
  matches: "The bytes are those that are stated. What is missing is who vouches for that.",
  differs: "What is stated was compared, and none of it is this file's.",
  "nothing-compared": "There was nothing to compare it with.",
};

/** Of values that differ the longest says it all. */
function strongest(grounds: Ground[]): Ground[] {
  const differing = grounds.filter((g) => g.code === "digest-mismatch");
  const [first] = [...differing].sort((a, b) => (b.expected?.length ?? 0) - (a.expected?.length ?? 0));
  return grounds.filter((g) => g.code !== "digest-mismatch" || g === first);
}

function Reason({ ground }: { ground: Ground }) {
  return (
    <div data-code={ground.code}>
      <p>{ground.sentence}</p>
      {ground.code === "digest-mismatch" && ground.expected && ground.computed && (
        <Comparison expected={ground.expected} computed={ground.computed} />
      )}
      {ground.findings && ground.findings.length > 0 ? (
        <Causes findings={ground.findings} />
      ) : (
        ground.advice && <p className="font-semibold">{ground.advice}</p>
      )}
    </div>
  );
}

/** Proves that the check of a file can fail, with the file that the browser still has. */
function Prove({ item, batch, core }: { item: Item; batch: number; core: () => Core | undefined }) {
  const drill = useDrill(batch);
  const [failed, setFailed] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const run = async () => {
    const reader = core();
    if (!reader) return;
    setBusy(true);
    setFailed(undefined);
    try {
      const assignment: DrillAssignment = await askRaw(
        api.GET("/api/v1/batches/{id}/items/{n}/drill", { params: { path: { id: batch, n: item.n } } }),
      );
      const { readings } = await reader.call("alter", assignment);
      await drill.mutateAsync({ n: item.n, readings });
    } catch (error) {
      setFailed(error);
    }
    setBusy(false);
  };
  if (drill.data) return <DrillTable drill={drill.data} />;
  return (
    <>
      <button type="button" className="btn btn-sm self-start" disabled={busy} onClick={() => void run()}>
        {busy ? "Altering it in memory…" : "Prove that this check can fail"}
      </button>
      {failed !== undefined && <ProblemNote error={failed} />}
    </>
  );
}
