import { Check, CircleHelp, X } from "lucide-react";
import { Link } from "react-router";

import type { Key, Path } from "../../api/client";
import { Hex } from "../../parts/hex";
import { day } from "../../parts/text";
import { Mark } from "../../parts/verdict";

/** The way from each anchor of the publisher to the key, link by link. */
export function Paths({ k }: { k: Key }) {
  if (k.paths.length === 0) return null;
  return (
    <section className="flex flex-col gap-3">
      <h2 className="border-b border-base-300 pb-1">Certification by the publisher's anchor</h2>
      {k.paths.map((p) => (
        <PathPicture key={p.anchor} k={k} p={p} />
      ))}
    </section>
  );
}

const links = {
  holds: { icon: Check, colour: "text-success border-success", line: "border-success" },
  missing: { icon: CircleHelp, colour: "text-warning border-warning", line: "border-dashed border-base-300" },
  broken: { icon: X, colour: "text-error border-error", line: "border-dashed border-error/60" },
};

function PathPicture({ k, p }: { k: Key; p: Path }) {
  const look = links[p.certified === "holds" ? "holds" : p.certified === "missing" ? "missing" : "broken"];
  const Icon = look.icon;
  return (
    <div className="rounded-box border border-base-300 p-4" data-path={p.holds ? "holds" : "broken"}>
      <div className="flex flex-col gap-2 md:flex-row md:items-start">
        <div className="min-w-0 md:w-5/12">
          <p className="flex flex-wrap items-center gap-2">
            <span className="font-semibold">Anchor</span> <Mark word={p.anchor_state} />
          </p>
          <Link to={`/keyring/${p.anchor}`} className="quiet-link wrap-anywhere">
            {p.anchor_id || "a key without a valid user ID"}
          </Link>
          <p className="text-sm">
            <Hex value={p.anchor} />
          </p>
        </div>
        <div className="flex min-w-40 flex-1 flex-col items-center text-sm">
          <div className="flex w-full items-center">
            <span aria-hidden className={`flex-1 border-t-2 ${look.line}`} />
            <span className={`flex size-8 items-center justify-center rounded-full border-2 ${look.colour}`}>
              <Icon size={16} strokeWidth={2.6} aria-hidden />
            </span>
            <span aria-hidden className={`flex-1 border-t-2 ${look.line}`} />
          </div>
          <span className="text-center">
            {p.certified === "missing" ? "no certification" : `certified ${day(p.made ?? "")}: ${p.certified.replaceAll("-", " ")}`}
          </span>
        </div>
        <div className="min-w-0 md:w-4/12">
          <p className="font-semibold">This key</p>
          <p className="wrap-anywhere">{p.user_id ?? k.user_ids[0] ?? ""}</p>
        </div>
      </div>
      {p.reason && (
        <p className="mt-3 border-l-4 border-warning pl-3">
          <span className="font-semibold">Where it breaks: </span>
          {p.reason}
        </p>
      )}
      {p.note && <p className="mt-3 border-l-4 border-base-300 pl-3">{p.note}</p>}
      {p.holds && k.state === "candidate" && (
        <p className="mt-3 text-sm">
          {k.anchor_admits ? "By the policy this admits a release key without sightings." : "The policy asks for sightings all the same."}
        </p>
      )}
    </div>
  );
}
