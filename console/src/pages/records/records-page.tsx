import { Link, useSearchParams } from "react-router";

import { useAudit, useRecords } from "../../api/records";
import { recordKindValues, verdictValues } from "../../api/words";
import { Empty } from "../../parts/empty";
import { Filter } from "../../parts/filter";
import { Answer } from "../../parts/inquiry";
import { More } from "../../parts/more";
import { ProblemNote } from "../../parts/problem-note";
import { moment, say } from "../../parts/text";
import { Mark } from "../../parts/verdict";

export function RecordsPage() {
  const [search, setSearch] = useSearchParams();
  const filter = {
    name: search.get("name") ?? "",
    kind: search.get("kind") ?? "",
    verdict: search.get("verdict") ?? "",
    batch: search.get("batch") ?? "",
  };
  const list = useRecords(filter);
  const records = list.data?.pages.flatMap((p) => p.items) ?? [];
  const set = (field: keyof typeof filter, value: string) => {
    const next = new URLSearchParams(search);
    if (value) next.set(field, value);
    else next.delete(field);
    setSearch(next, { replace: true });
  };
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1>Records</h1>
        <label className="flex items-center gap-2 text-sm">
          Name
          <input
            className="input input-sm w-48"
            type="search"
            value={filter.name}
            onChange={(e) => {
              set("name", e.target.value);
            }}
          />
        </label>
        <Filter
          label="Kind"
          value={filter.kind}
          options={recordKindValues}
          onChange={(v) => {
            set("kind", v);
          }}
        />
        <Filter
          label="Verdict"
          value={filter.verdict}
          options={verdictValues}
          onChange={(v) => {
            set("verdict", v);
          }}
        />
        <Link to="/reassessments" className="btn btn-sm ml-auto">
          Judged again
        </Link>
      </div>
      <Ledger />
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
