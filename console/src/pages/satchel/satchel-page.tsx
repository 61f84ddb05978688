import { Link, useParams } from "react-router";

import { useSatchel, type Visit } from "../../api/satchels";
import { Empty } from "../../parts/empty";
import { Hex } from "../../parts/hex";
import { ProblemNote } from "../../parts/problem-note";
import { count, moment } from "../../parts/text";
import { Mark } from "../../parts/verdict";

export function SatchelPage() {
  const id = useParams().satchel ?? "";
  const query = useSatchel(id);
  if (query.error) return <ProblemNote error={query.error} />;
  const s = query.data;
  if (!s) return <p>Loading…</p>;
  return (
    <div className="flex flex-col gap-5">
      <div>
        <p className="text-sm">
          <Link to="/satchels" className="quiet-link">
            Satchels
          </Link>
        </p>
        <h1>{s.label || "Satchel"}</h1>
        <p className="soft">
          For {s.publishers.join(", ")}. Packed on {moment(s.packed)} by {s.by}, good until {moment(s.until)}
          {s.ended && ", which is over"}; policy version {s.policy_version},{" "}
          <Link to={`/records/${s.record}`} className="quiet-link">
            record {s.record}
          </Link>
          . It knows {count(s.references, "file")} that were cleared, and {count(s.other_keys, "key")} beside those below.
        </p>
        <p className="text-sm break-all soft">{s.id}</p>
      </div>
      <section className="flex flex-col gap-2">
        <h2>It can clear with</h2>
        {s.keys.length === 0 && <p>No key: nothing can be cleared by a signature.</p>}
        <ul className="flex flex-col gap-1">
          {s.keys.map((k) => (
            <li key={k}>
              <Link to={`/keyring/${k}`} className="quiet-link">
                <Hex value={k} />
              </Link>
            </li>
          ))}
        </ul>
      </section>
      <section className="flex flex-col gap-3">
        <h2>What came back</h2>
        {s.visits.length === 0 && <Empty>Nothing yet.</Empty>}
        {s.visits.map((v) => (
          <Returned key={`${v.sealed_by}.${v.number}`} visit={v} />
        ))}
      </section>
    </div>
  );
}

type Differs = Visit["differs"][number];

/** Files that count otherwise for the same reason, together. */
function folded(all: Differs[]): { first: Differs; all: Differs[] }[] {
  const out: { first: Differs; all: Differs[] }[] = [];
  for (const d of all) {
    const same = out.find(({ first }) => first.why === d.why && first.now === d.now && first.on_site === d.on_site);
    if (same) same.all.push(d);
    else out.push({ first: d, all: [d] });
  }
  return out;
}

const of: Record<string, string> = { folder: "a folder", spot: "some files", readback: "a medium, read back" };

function Returned({ visit: v }: { visit: Visit }) {
  return (
    <article className="flex flex-col gap-1 border-l-4 border-base-300 pl-3">
      <p className="flex flex-wrap items-center gap-2">
        <span className="font-semibold">{v.number}</span>
        <Mark word={v.on_site} /> <span className="soft">on site, now</span> <Mark word={v.now ?? v.state} />
        <Link to={`/batches/${v.batch}`} className="quiet-link break-all">
          {v.host}:{v.path}
        </Link>
      </p>
      <p className="text-sm soft">
        {of[v.of] ?? v.of}, {count(v.files, "file")}, by {v.by} on {moment(v.at)} by the clock there; sealed by {v.sealed_by},{" "}
        <Link to={`/records/${v.record}`} className="quiet-link">
          record {v.record}
        </Link>
      </p>
      {v.clock && <p className="font-semibold">{v.clock} What was judged on site does not count; what is judged now does.</p>}
      {v.differs.length === 0 && v.now && <p className="text-sm">Every verdict is the same now.</p>}
      {folded(v.differs).map((same) => (
        <div key={same.first.n}>
          <p>
            <Mark word={same.first.now} /> now, {same.first.on_site ?? "not judged"} on site: {same.first.why}
          </p>
          <ul className="flex flex-wrap gap-x-3 text-sm">
            {same.all.map((d) => (
              <li key={d.n}>
                <Link to={`/batches/${v.batch}/items/${d.n}`} className="quiet-link break-all">
                  {d.shown}
                </Link>
              </li>
            ))}
          </ul>
        </div>
      ))}
      {v.more !== undefined && <p className="text-sm soft">and {count(v.more, "more file")}</p>}
    </article>
  );
}
