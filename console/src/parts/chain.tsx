import { Check, CircleCheck, CircleDashed, CircleHelp, X } from "lucide-react";
import { Link as RouterLink } from "react-router";

import type { Link, ProofPath } from "../api/client";

const states = {
  holds: { icon: Check, ring: "border-success text-success", says: "holds" },
  broken: { icon: X, ring: "border-error text-error", says: "does not hold" },
  waived: { icon: CircleCheck, ring: "border-warning text-warning", says: "waived" },
  missing: { icon: CircleHelp, ring: "border-warning text-warning", says: "missing" },
  unreached: { icon: CircleDashed, ring: "border-base-300", says: "not reached" },
} as const;

const titles: Record<string, string> = {
  "signed-manifest": "By a signed manifest",
  "signed-artifact": "By a signature over the artifact",
  "cleared-container": "By the file around it",
  "corroborated-manifest": "By copies of the manifest from several channels",
  readback: "By the file that was written",
  receipt: "By the receipt of an earlier check",
  "known-reference": "By a file with the same bytes that was cleared before",
};

/**
 * A proof path drawn link by link, from the artifact to the publisher. Every
 * link says in words whether it holds; the line to the next is solid only
 * where it does.
 */
export function Chain({ path, itemAt }: { path: ProofPath; itemAt: (ref: string) => string | undefined }) {
  return (
    <section className="rounded-box border border-base-300 p-4" aria-label={titles[path.kind] ?? path.kind}>
      <p className="mb-3 font-semibold">
        {titles[path.kind] ?? path.kind}: {path.complete ? "complete" : "not complete"}
      </p>
      <ol className="flex flex-col md:flex-row md:flex-wrap md:gap-y-5">
        {path.links.map((link, i) => (
          <ChainLink key={i} link={link} last={i === path.links.length - 1} to={target(link, itemAt)} />
        ))}
      </ol>
      {path.missing && (
        <p className="mt-3 border-l-4 border-warning pl-3">
          <span className="font-semibold">What is missing: </span>
          {path.missing}
        </p>
      )}
    </section>
  );
}

function ChainLink({ link, last, to }: { link: Link; last: boolean; to?: string }) {
  const state = states[link.state];
  const Icon = state.icon;
  const solid = link.state === "holds" || link.state === "waived";
  const label = <span className="font-mono text-sm wrap-anywhere">{link.label}</span>;
  return (
    <li className="flex min-w-0 flex-row md:w-1/4 md:flex-col" data-kind={link.kind} data-state={link.state}>
      <div className="flex flex-col items-center md:w-full md:flex-row">
        <span className={`flex size-8 shrink-0 items-center justify-center rounded-full border-2 ${state.ring}`}>
          <Icon size={16} strokeWidth={2.6} aria-hidden />
        </span>
        {!last && (
          <span
            aria-hidden
            className={`min-h-4 flex-1 border-l-2 md:min-h-0 md:border-l-0 md:border-t-2 ${solid ? "border-success" : "border-dashed border-base-300"}`}
          />
        )}
      </div>
      <div className="min-w-0 pb-3 pl-3 md:pb-0 md:pl-0 md:pr-4 md:pt-1.5">
        <p className="text-sm">
          <span className="font-semibold">{link.kind}</span> <span className="soft">{state.says}</span>
        </p>
        {to ? (
          <RouterLink to={to} className="quiet-link">
            {label}
          </RouterLink>
        ) : (
          label
        )}
        <p className="text-sm wrap-anywhere soft">{link.detail}</p>
      </div>
    </li>
  );
}

/** Where a link leads: to the item's page, or the key's. */
function target(link: Link, itemAt: (ref: string) => string | undefined): string | undefined {
  if (!link.ref) return undefined;
  if (link.kind === "key") return `/keyring/${link.ref}`;
  if (link.kind === "reference") return `/records/${link.ref}`;
  if (link.kind === "publisher") return "/keyring";
  return itemAt(link.ref);
}
