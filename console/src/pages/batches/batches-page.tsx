import { Link, useSearchParams } from "react-router";

import { useBatches } from "../../api/batches";
import { mayOperate, useMe } from "../../api/people";
import { verdictValues } from "../../api/words";
import { Empty } from "../../parts/empty";
import { Filter } from "../../parts/filter";
import { More } from "../../parts/more";
import { ProblemNote } from "../../parts/problem-note";
import { moment } from "../../parts/text";
import { countsNow, resultNow } from "../../parts/now";
import { Mark } from "../../parts/verdict";

export function BatchesPage() {
  const [search, setSearch] = useSearchParams();
  const verdict = search.get("verdict") ?? "";
  const list = useBatches(verdict);
  const me = useMe();
  const batches = list.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1>Batches</h1>
        <Filter
          label="Verdict"
          value={verdict}
          options={verdictValues}
          onChange={(v) => {
            setSearch(v ? { verdict: v } : {});
          }}
        />
        <div className="ml-auto flex gap-2">
          <Link to="/satchels" className="btn btn-sm">
            Satchels
          </Link>
          {mayOperate(me.data) && (
            <Link to="/batches/new" className="btn btn-primary btn-sm">
              Verify a folder
            </Link>
          )}
        </div>
      </div>
      {list.error && <ProblemNote error={list.error} />}
      {list.data && batches.length === 0 && (
        <Empty>{verdict ? `No batch is ${verdict}.` : "No batch yet. Choose a folder with a publisher's downloads to verify it."}</Empty>
      )}
      {batches.length > 0 && (
        <div className="overflow-x-auto">
          <table className="table table-sm">
            <thead>
              <tr>
                <th>Batch</th>
                <th>Verdict</th>
                <th>Folder</th>
                <th className="text-right">cleared</th>
                <th className="text-right">unproven</th>
                <th className="text-right">refused</th>
                <th className="text-right">absent</th>
                <th>Asked by</th>
                <th>Started</th>
              </tr>
            </thead>
            <tbody>
              {batches.map((b) => (
                <tr key={b.id}>
                  <td>{b.id}</td>
                  <td>
                    <Mark word={resultNow(b)} />
                    {b.now && b.now.verdict !== b.verdict && <div className="text-sm soft">{b.verdict} at first</div>}
                  </td>
                  <td>
                    <Link to={`/batches/${b.id}`} className="quiet-link">
                      {b.source.reference}
                    </Link>
                    {b.label && <div className="text-sm soft">{b.label}</div>}
                  </td>
                  <td className="text-right">{countsNow(b).cleared}</td>
                  <td className="text-right">{countsNow(b).unproven}</td>
                  <td className="text-right">{countsNow(b).refused}</td>
                  <td className="text-right">{countsNow(b).absent}</td>
                  <td>{b.asked_by}</td>
                  <td className="whitespace-nowrap">{moment(b.created)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <More list={list}>Show older batches</More>
    </div>
  );
}
