import { Link } from "react-router";

import { useNoted } from "../../api/references";
import { More } from "../../parts/more";
import { ProblemNote } from "../../parts/problem-note";
import { moment, say } from "../../parts/text";

/** Digests that somebody has read somewhere, by the same filter; nothing where there is none. */
export function Noted({ filter }: { filter: Parameters<typeof useNoted>[0] }) {
  const list = useNoted(filter);
  const noted = list.data?.pages.flatMap((p) => p.items) ?? [];
  if (list.error) return <ProblemNote error={list.error} />;
  if (noted.length === 0) return null;
  return (
    <section className="flex flex-col gap-2" aria-label="Noted, and not cleared">
      <h2>Noted, and not cleared</h2>
      <p className="text-sm soft">Digests that somebody has read in a list, a letter or elsewhere. They clear nothing.</p>
      <div className="overflow-x-auto">
        <table className="table table-sm">
          <thead>
            <tr>
              <th>File</th>
              <th>Of</th>
              <th>Digest</th>
              <th>Read</th>
              <th>By</th>
              <th>Record</th>
              <th>Noted</th>
            </tr>
          </thead>
          <tbody>
            {noted.map((r) => (
              <tr key={r.record}>
                <td className="break-all">{r.name}</td>
                <td>{r.publisher}</td>
                <td className="font-mono text-xs break-all">
                  {r.algorithm} {r.digest}
                </td>
                <td>
                  {say(r.channel)}: {r.place}
                </td>
                <td>{r.by}</td>
                <td>
                  <Link to={`/records/${r.record}`} className="quiet-link">
                    {r.record}
                  </Link>
                </td>
                <td className="whitespace-nowrap">{moment(r.at)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <More list={list}>Show older notes</More>
    </section>
  );
}
