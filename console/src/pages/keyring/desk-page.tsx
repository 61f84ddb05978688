import { Link } from "react-router";

import type { Key } from "../../api/client";
import { useWaitingKeys } from "../../api/keyring";
import { Back } from "../../parts/back";
import { Empty } from "../../parts/empty";
import { Hex } from "../../parts/hex";
import { ProblemNote } from "../../parts/problem-note";
import { day, moment } from "../../parts/text";
import { Mark, Standing } from "../../parts/verdict";
import { Decide } from "../key/decide";
import { Paths } from "../key/paths";
import { Sightings } from "../key/sightings";

/** The desk: what waits for a curator, each with all of its evidence. */
export function DeskPage() {
  const waiting = useWaitingKeys();
  const keys = [...(waiting.data?.items ?? [])].sort((a, b) => rank(a) - rank(b));
  return (
    <div className="flex flex-col gap-6">
      <div>
        <Back to="/keyring" name="Keyring" />
        <h1>The desk</h1>
        <p>
          Keys that wait for a curator: contradicted ones first, then proposals, then candidates whose evidence suffices, then the rest.
        </p>
      </div>
      {waiting.error && <ProblemNote error={waiting.error} />}
      {waiting.data && keys.length === 0 && (
        <Empty>Nothing waits. A key that is imported, or that a sighting contradicts, appears here.</Empty>
      )}
      {keys.map((k) => (
        <Waiting key={k.fingerprint} k={k} />
      ))}
      {waiting.data?.next && <p className="soft">There are more; these come first.</p>}
    </div>
  );
}

function rank(k: Key): number {
  if (k.conflict) return 0;
  if (k.proposal) return 1;
  return k.obstacles.length === 0 ? 2 : 3;
}

function Waiting({ k }: { k: Key }) {
  const expiry = k.expires ? `, ${k.expired ? "expired" : "expires"} ${day(k.expires)}` : "";
  return (
    <article className="flex flex-col gap-4 rounded-box border border-base-300 bg-base-200/50 p-4">
      <header>
        <div className="flex flex-wrap items-center gap-3">
          <Link to={`/keyring/${k.fingerprint}`} className="quiet-link text-lg font-semibold">
            {k.user_ids[0] ?? "A key without a valid user ID"}
          </Link>
          <Standing k={k} />
          {k.conflict && <Mark word="conflict" />}
        </div>
        <Hex value={k.fingerprint} />
        <p className="text-sm soft">
          {k.publisher ? `said to belong to ${k.publisher}` : "nobody said whose it is"}; {k.algorithm}, made {day(k.created)}
          {expiry}
          {k.revoked && `, revoked ${day(k.revoked.at)} (${k.revoked.reason})`}; arrived {moment(k.imported)} from {k.source}, by{" "}
          {k.imported_by}
        </p>
      </header>
      <div className="grid gap-6 lg:grid-cols-2">
        <div className="flex flex-col gap-4">
          <Sightings k={k} />
          <Paths k={k} />
        </div>
        {k.state === "candidate" && <Decide k={k} />}
      </div>
    </article>
  );
}
