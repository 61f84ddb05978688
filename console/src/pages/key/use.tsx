import { Link } from "react-router";

import type { Key } from "../../api/client";
import { useKeyUse } from "../../api/keyring";
import { count, day, moment } from "../../parts/text";

/** What the key has signed that was verified here, and who certified its names. */
export function Use({ k }: { k: Key }) {
  const use = useKeyUse(k.fingerprint);
  const u = use.data;
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">Signed here</h2>
      {u?.artifacts === 0 && <p>Nothing that was verified has a signature by this key.</p>}
      {u && u.artifacts > 0 && (
        <p>
          {count(u.artifacts, "artifact")} in {count(u.batches, "batch", "batches")}, last on {moment(u.last ?? "")}:{" "}
          {u.newest.map((b, i) => (
            <span key={b}>
              {i > 0 && ", "}
              <Link to={`/batches/${String(b)}`} className="quiet-link">
                batch {b}
              </Link>
            </span>
          ))}
          {u.batches > u.newest.length && " and older ones"}
        </p>
      )}
      <Link to={`/records?key=${k.fingerprint}`} className="quiet-link text-sm">
        All records about this key, and of what it has signed
      </Link>
    </section>
  );
}

export function Certified({ k }: { k: Key }) {
  if (k.certified.length === 0 && k.unknown_certifiers === 0) return null;
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">Certified by</h2>
      <ul className="rows">
        {k.certified.map((c, i) => (
          <li key={i} className="py-1.5">
            <span className={`font-semibold ${c.status === "holds" ? "text-success" : "text-error"}`}>{c.status.replaceAll("-", " ")}</span>{" "}
            <Link to={`/keyring/${c.by}`} className="quiet-link">
              {c.by_id || c.by}
            </Link>
            , {day(c.made)}
            {k.user_ids.length > 1 && `, as ${c.user_id}`}
            {c.reason && <span className="soft"> — {c.reason}</span>}
          </li>
        ))}
      </ul>
      {k.unknown_certifiers > 0 && (
        <p className="text-sm soft">{count(k.unknown_certifiers, "more key")} not in the keyring; what they say is not checked.</p>
      )}
    </section>
  );
}
