import { Link, useSearchParams } from "react-router";

import { type LibraryFilter, useLibrary } from "../../api/references";
import { Empty } from "../../parts/empty";
import { More } from "../../parts/more";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherFilter } from "../../parts/publisher-select";
import { bytes, moment } from "../../parts/text";
import { Typed } from "../../parts/typed";
import { Mark } from "../../parts/verdict";
import { Noted } from "./noted";

/** The files that were cleared here, found by publisher and name, or by a digest. */
export function ReferencesPage() {
  const [search, setSearch] = useSearchParams();
  const filter: LibraryFilter = {
    digest: search.get("digest") ?? "",
    publisher: search.get("publisher") ?? "",
    match: search.get("match") ?? "",
  };
  const list = useLibrary(filter);
  const files = list.data?.pages.flatMap((p) => p.items) ?? [];
  const set = (field: keyof LibraryFilter, value: string) => {
    const next = new URLSearchParams(search);
    // A digest says which file it is by itself.
    if (field === "digest" || value !== "") {
      for (const other of field === "digest" ? ["publisher", "match"] : ["digest"]) next.delete(other);
    }
    if (value) next.set(field, field === "digest" ? value.replaceAll(" ", "") : value);
    else next.delete(field);
    setSearch(next, { replace: true });
  };
  return (
    <div className="flex flex-col gap-4">
      <div>
        <h1>What was cleared</h1>
        <p className="text-sm soft">
          Each file by the record that cleared it, the newest first, and what became of it since. The release is what its name tells.
        </p>
      </div>
      <search className="flex flex-wrap items-center gap-3">
        <PublisherFilter
          label="Signed by"
          value={filter.publisher}
          change={(slug) => {
            set("publisher", slug);
          }}
        />
        <Typed
          label="Name"
          value={filter.match}
          change={(value) => {
            set("match", value);
          }}
        />
        <Typed
          label="Which file has this digest?"
          value={filter.digest}
          width="w-96 font-mono"
          change={(value) => {
            set("digest", value);
          }}
        />
      </search>
      {list.error && <ProblemNote error={list.error} />}
      {list.data && files.length === 0 && (
        <Empty>{filter.digest ? "No file that was cleared here has these bytes." : "No file fits."}</Empty>
      )}
      {files.length > 0 && (
        <div className="overflow-x-auto">
          <table className="table table-sm">
            <thead>
              <tr>
                <th>File</th>
                <th>Release</th>
                <th>Signed by</th>
                <th>Size</th>
                <th>Now</th>
                <th>Batch</th>
                <th>Record</th>
                <th>Cleared</th>
              </tr>
            </thead>
            <tbody>
              {files.map((f) => (
                <tr key={`${f.record} ${f.algorithm}`}>
                  <td className="break-all">
                    <Link to={`/batches/${f.batch}/items/${f.item}`} className="quiet-link">
                      {f.name}
                    </Link>
                  </td>
                  <td>{f.release}</td>
                  <td>{f.signed_by}</td>
                  <td className="whitespace-nowrap">{bytes(f.size)}</td>
                  <td>
                    <Mark word={f.now ?? "cleared"} />
                  </td>
                  <td>
                    <Link to={`/batches/${f.batch}`} className="quiet-link">
                      {f.batch}
                    </Link>
                  </td>
                  <td>
                    <Link to={`/records/${f.record}`} className="quiet-link">
                      {f.record}
                    </Link>
                  </td>
                  <td className="whitespace-nowrap">{moment(f.cleared)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <More list={list}>Show older files</More>
      <Noted filter={filter} />
    </div>
  );
}
