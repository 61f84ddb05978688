import { lazy, type ReactNode, Suspense } from "react";
import { Link, useNavigate } from "react-router";

import type { Batch, Key } from "../../api/client";
import { useOverview } from "../../api/batches";
import { mayOperate, useMe } from "../../api/people";
import { hand } from "../spot/handed";
import { DropArea } from "../../parts/drop-area";
import { Empty } from "../../parts/empty";
import { ProblemNote } from "../../parts/problem-note";
import { BatchProgress } from "../../parts/progress";
import { count, day, moment } from "../../parts/text";
import { resultNow } from "../../parts/now";
import { Mark } from "../../parts/verdict";

const OutcomesChart = lazy(() => import("./outcomes-chart"));

export function OverviewPage() {
  const overview = useOverview();
  const me = useMe();
  const go = useNavigate();
  if (overview.error) return <ProblemNote error={overview.error} />;
  const o = overview.data;
  if (!o) return <p>Loading…</p>;
  const quiet = o.refused.length + o.unproven.length + o.candidates.length + o.conflicts.length + o.expiring.length === 0;
  return (
    <div className="flex flex-col gap-6">
      <div className="flex flex-wrap items-center gap-3">
        <h1>Overview</h1>
        {mayOperate(me.data) && (
          <Link to="/batches/new" className="btn btn-primary btn-sm ml-auto">
            Verify a folder
          </Link>
        )}
      </div>
      {mayOperate(me.data) && (
        <DropArea
          take={(given) => {
            hand(given);
            void go("/spot");
          }}
        >
          <p className="text-sm soft">They are read in this browser, and verified against the lists and signatures among them.</p>
        </DropArea>
      )}
      {o.running.length > 0 && (
        <Section title="Running">
          {o.running.map((b) => (
            <div key={b.id} className="py-2">
              <BatchLine batch={b} />
              <BatchProgress batch={b} />
            </div>
          ))}
        </Section>
      )}
      {o.recent.length === 0 ? (
        <Empty>
          <p className="font-semibold">Nothing has been verified yet.</p>
          <p>
            {mayOperate(me.data) ? (
              <>
                <Link to="/batches/new" className="quiet-link">
                  Choose a folder of a depot
                </Link>{" "}
                with a publisher's downloads; every file in it gets a verdict.
              </>
            ) : (
              "Verdicts appear here once an operator has verified a folder."
            )}
          </p>
        </Empty>
      ) : (
        <div className="grid gap-6 lg:grid-cols-2">
          <Section title="Needs attention">
            {quiet ? (
              <p className="py-2">Nothing.</p>
            ) : (
              <Link to="/attention" className="quiet-link block py-2 text-sm">
                Why, what helps, and how to settle it
              </Link>
            )}
            {o.conflicts.map((k) => (
              <KeyLine key={k.fingerprint} k={k} word="conflict" says="a sighting shows another fingerprint" />
            ))}
            {o.refused.map((b) => (
              <BatchLine key={b.id} batch={b} />
            ))}
            {o.unproven.map((b) => (
              <BatchLine key={b.id} batch={b} />
            ))}
            {o.expiring.map((k) => (
              <KeyLine key={k.fingerprint} k={k} word={k.revoked ? "revoked" : k.expired ? "expired" : k.state} says={expiry(k)} />
            ))}
            {o.candidates.map((k) => (
              <KeyLine key={k.fingerprint} k={k} word="candidate" says="waits for a decision" />
            ))}
          </Section>
          <div className="flex flex-col gap-6">
            <Section title="Artifacts by day and verdict">
              <Suspense fallback={<p className="h-56 py-2">Drawing…</p>}>
                <OutcomesChart days={o.days} />
              </Suspense>
            </Section>
            <Section title="Latest batches">
              {o.recent.map((b) => (
                <BatchLine key={b.id} batch={b} />
              ))}
            </Section>
          </div>
        </div>
      )}
      {o.recent.length === 0 && o.candidates.length > 0 && (
        <Section title="Keys that wait for a decision">
          {o.candidates.map((k) => (
            <KeyLine key={k.fingerprint} k={k} word="candidate" says={k.publisher} />
          ))}
        </Section>
      )}
      <p className="text-sm soft">
        The ledger holds{" "}
        <Link to="/records" className="quiet-link">
          {count(o.records, "record")}
        </Link>
        .
      </p>
    </div>
  );
}

function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">{title}</h2>
      <div className="rows">{children}</div>
    </section>
  );
}

function BatchLine({ batch }: { batch: Batch }) {
  return (
    <div className="grid grid-cols-[6.5rem_1fr] items-baseline gap-x-3 py-1.5 sm:grid-cols-[6.5rem_1fr_auto]">
      <span>
        <Mark word={resultNow(batch)} />
      </span>
      <Link to={`/batches/${batch.id}`} className="min-w-0 break-words hover:underline">
        {batch.source.reference}
      </Link>
      <span className="col-start-2 text-sm soft sm:col-start-auto">{moment(batch.created)}</span>
    </div>
  );
}

function KeyLine({ k, word, says }: { k: Key; word: string; says: string }) {
  return (
    <div className="grid grid-cols-[6.5rem_1fr] items-baseline gap-x-3 py-1.5 sm:grid-cols-[6.5rem_1fr_auto]">
      <span>
        <Mark word={word} />
      </span>
      <Link to={`/keyring/${k.fingerprint}`} className="min-w-0 break-words hover:underline">
        {k.user_ids[0] ?? k.grouped}
      </Link>
      <span className="col-start-2 text-sm soft sm:col-start-auto">{says}</span>
    </div>
  );
}

/** Says when a key expires; the nearer, the plainer. */
function expiry(k: Key): string {
  const on = day(k.expires ?? "");
  if (k.expired) return `expired ${on}`;
  const days = k.expires_in_days ?? 0;
  const warning = days <= 7 ? "within a week" : days <= 30 ? "within a month" : "within two months";
  return `expires ${on}, ${warning}: ask the publisher for a copy with a later date`;
}
