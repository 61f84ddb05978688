import { Link, useSearchParams } from "react-router";

import { type Search, searched, useAudit, useRecords } from "../../api/records";
import { causeCodeValues, groundCodeValues, recordKindValues, verdictValues } from "../../api/words";
import { Empty } from "../../parts/empty";
import { Filter } from "../../parts/filter";
import { Answer } from "../../parts/inquiry";
import { More } from "../../parts/more";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherFilter } from "../../parts/publisher-select";
import { count, moment, say } from "../../parts/text";
import { Typed } from "../../parts/typed";
import { Mark } from "../../parts/verdict";

export function RecordsPage() {
  const [search, setSearch] = useSearchParams();
  const filter = Object.fromEntries(searched.map((field) => [field, search.get(field) ?? ""])) as Search;
  const list = useRecords(filter);
  const records = list.data?.pages.flatMap((p) => p.items) ?? [];
  const set = (field: keyof Search, value: string) => {
    const next = new URLSearchParams(search);
    if (value) next.set(field, value);
    else next.delete(field);
    setSearch(next, { replace: true });
  };
  const first = list.data?.pages[0];
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1>Records</h1>
        <Link to="/references" className="btn btn-sm ml-auto">
          What was cleared
        </Link>
        <Link to="/reassessments" className="btn btn-sm">
          Judged again
        </Link>
      </div>
      <Ledger />
      <Filters filter={filter} set={set} />
      {first?.count !== undefined && (
        <p role="status" className="text-sm">
          {first.at_least && "At least "}
          {count(first.count, "record")}
          {searched.some((field) => filter[field] !== "") && (
            <>
              {first.count === 1 && !first.at_least ? " fits" : " fit"}.{" "}
              <Link to="/records" className="quiet-link">
                Show all
              </Link>
            </>
          )}
        </p>
      )}
      {list.error && <ProblemNote error={list.error} />}
      {list.data && records.length === 0 && <Empty>No record fits.</Empty>}
      {records.length > 0 && (
        <div className="overflow-x-auto">
          <table className="table table-sm">
            <thead>
              <tr>
                <th>Record</th>
                <th>Kind</th>
                <th>Verdict</th>
                <th>Subject</th>
                <th>Batch</th>
                <th>By</th>
                <th>At</th>
              </tr>
            </thead>
            <tbody>
              {records.map((r) => (
                <tr key={r.position}>
                  <td>
                    <Link to={`/records/${r.position}`} className="quiet-link">
                      {r.position}
                    </Link>
                  </td>
                  <td className="whitespace-nowrap">{say(r.kind)}</td>
                  <td>{r.verdict && <Mark word={r.verdict} />}</td>
                  <td className="break-all">{r.subject}</td>
                  <td>
                    {r.batch !== undefined && (
                      <Link to={`/batches/${r.batch}`} className="quiet-link">
                        {r.batch}
                      </Link>
                    )}
                  </td>
                  <td>{r.by}</td>
                  <td className="whitespace-nowrap">{moment(r.at)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <More list={list}>Show older records</More>
    </div>
  );
}

/** What records are looked for by; what is asked for seldom is folded away unless it is in use. */
function Filters({ filter, set }: { filter: Search; set: (field: keyof Search, value: string) => void }) {
  const seldom = (["key", "digest", "ground", "cause", "waiver", "device", "place", "label", "batch"] as const).some(
    (f) => filter[f] !== "",
  );
  const typed = (field: keyof Search, label: string, more: { placeholder?: string; type?: string; width?: string } = {}) => (
    <Typed
      label={label}
      value={filter[field]}
      {...more}
      change={(value) => {
        set(field, value);
      }}
    />
  );
  const chosen = (field: keyof Search, label: string, options: readonly string[]) => (
    <Filter
      label={label}
      value={filter[field]}
      options={options}
      onChange={(value) => {
        set(field, value);
      }}
    />
  );
  return (
    <search className="flex flex-col gap-2">
      <div className="flex flex-wrap items-center gap-3">
        {typed("name", "Name")}
        {typed("by", "By", { width: "w-32" })}
        {typed("from", "From", { type: "date", width: "w-40" })}
        {typed("to", "To", { type: "date", width: "w-40" })}
        {chosen("verdict", "Verdict", verdictValues)}
        {chosen("kind", "Kind", recordKindValues)}
        <PublisherFilter
          label="Publisher"
          value={filter.publisher}
          change={(slug) => {
            set("publisher", slug);
          }}
        />
      </div>
      <details open={seldom}>
        <summary className="cursor-pointer text-sm">More to look for</summary>
        <div className="flex flex-wrap items-center gap-3 pt-2">
          {typed("digest", "Digest", { placeholder: "8 digits or more", width: "w-64 font-mono" })}
          {typed("key", "Key", { placeholder: "8 digits or more", width: "w-64 font-mono" })}
          {chosen("ground", "Ground", groundCodeValues)}
          {chosen("cause", "Explained by", causeCodeValues)}
          {typed("place", "Read from")}
          {typed("label", "Label", { width: "w-40" })}
          {typed("device", "Device", { width: "w-40" })}
          {typed("batch", "Batch", { width: "w-24" })}
          {typed("waiver", "Waiver of record", { width: "w-24" })}
        </div>
      </details>
    </search>
  );
}

function Ledger() {
  const audit = useAudit();
  return (
    <div className="flex flex-wrap items-center gap-3">
      <button
        type="button"
        className="btn btn-sm"
        disabled={audit.isPending}
        onClick={() => {
          audit.mutate(false);
        }}
      >
        Audit the ledger
      </button>
      <button
        type="button"
        className="btn btn-ghost btn-sm"
        disabled={audit.isPending}
        title="A great ledger is audited from where the last audit has ended. This begins at the first record."
        onClick={() => {
          audit.mutate(true);
        }}
      >
        From the first record
      </button>
      {audit.data && (
        <Answer id={audit.data.id} doing="Recomputing every record">
          {({ audit: found }) =>
            found && (
              <p role="status" className={found.clean ? "text-success" : "font-semibold text-error"}>
                {found.sentence}
              </p>
            )
          }
        </Answer>
      )}
      {audit.error && <ProblemNote error={audit.error} />}
    </div>
  );
}
