import { FileSearch } from "lucide-react";

import type { Correction, Planned } from "../../api/client";
import { useSurvey } from "../../api/batches";
import { mayOperate, useMe } from "../../api/people";
import { ProblemNote } from "../../parts/problem-note";
import { bytes } from "../../parts/text";
import { Mark } from "../../parts/verdict";
import { type Against, CopiesForm } from "./copies-form";

interface Props {
  depot: string;
  path: string;
  corrections: Correction[];
  correct: (corrections: Correction[]) => void;
  against: Against;
  hold: (against: Against) => void;
}

/** What would be checked and why, before anything is; pairs can be corrected. */
export function SurveyPanel({ depot, path, corrections, correct, against, hold }: Props) {
  const survey = useSurvey();
  const me = useMe();
  if (!mayOperate(me.data)) return null;
  const pair = (signature: string, file: string) => {
    const next = [...corrections.filter((c) => c.signature !== signature), { signature, file }];
    correct(next);
    survey.mutate({ depot, path, corrections: next });
  };
  const items = survey.data?.items ?? [];
  const artifacts = items.filter((i) => i.role === "artifact");
  const signatures = items.filter((i) => i.role === "signature");
  const signable = items.filter((i) => i.role === "artifact" || i.role === "manifest");
  const over = (signature: Planned) => signable.find((i) => i.signatures.some((s) => s.by === signature.shown));
  return (
    <div className="mt-4">
      <button
        type="button"
        className="btn btn-sm"
        disabled={survey.isPending}
        onClick={() => {
          survey.mutate({ depot, path, corrections });
        }}
      >
        <FileSearch size={16} aria-hidden />
        Survey first
      </button>
      {survey.error && <ProblemNote error={survey.error} />}
      {survey.data && (
        <div className="mt-3 flex flex-col gap-4">
          <section>
            <h2 className="mb-1 border-b border-base-300 pb-1">What vouches for what</h2>
            <ul className="rows">
              {artifacts
                .filter((i) => !i.inside)
                .map((item) => (
                  <Tree key={item.path} item={item} items={items} />
                ))}
              {survey.data.absent.map((e) => (
                <li key={e.manifest + String(e.line) + e.name} className="py-1.5">
                  <Mark word="absent" /> {e.name}{" "}
                  <span className="text-sm soft">
                    listed in {e.manifest}, line {e.line}
                  </span>
                </li>
              ))}
            </ul>
          </section>
          <CopiesForm manifests={items.filter((i) => i.role === "manifest")} against={against} hold={hold} />
          {signatures.length > 0 && (
            <section>
              <h2 className="mb-1 border-b border-base-300 pb-1">Signatures</h2>
              <ul className="rows">
                {signatures.map((s) => (
                  <li key={s.path} className="grid items-center gap-x-3 py-1.5 sm:grid-cols-2">
                    <span className="break-all">{s.shown}</span>
                    <label className="flex items-center gap-2 text-sm">
                      is over
                      <select
                        className="select select-sm min-w-0 flex-1"
                        value={over(s)?.path ?? ""}
                        onChange={(e) => {
                          pair(s.path, e.target.value);
                        }}
                      >
                        <option value="" disabled>
                          nothing found
                        </option>
                        {signable.map((i) => (
                          <option key={i.path} value={i.path}>
                            {i.shown}
                          </option>
                        ))}
                      </select>
                    </label>
                  </li>
                ))}
              </ul>
            </section>
          )}
        </div>
      )}
    </div>
  );
}

/**
 * An artifact with what vouches for it, and the signatures that vouch for
 * that; below it what it holds.
 */
function Tree({ item, items }: { item: Planned; items: Planned[] }) {
  const vouchers = [...item.listed, ...item.signatures];
  const held = items.filter((i) => i.role === "artifact" && i.inside === item.shown);
  const name = item.inside ? item.shown.slice(item.inside.length + 2) : item.shown;
  return (
    <li className="py-1.5">
      {item.inside && <span className="text-sm soft">inside: </span>}
      <span className="font-semibold break-all">{name}</span>{" "}
      <span className="text-sm soft">
        {item.holds && `${item.holds}, `}
        {(item.size > 0 || !item.inside) && `${bytes(item.size)}, `}will be read for {item.algorithms.join(", ")}
      </span>
      {item.problem && <p className="text-error">{item.problem}</p>}
      {vouchers.length === 0 && <p className="pl-5 text-sm">Nothing here vouches for it.</p>}
      <ul className="border-l border-base-300 pl-4">
        {vouchers.map((v, i) => (
          <li key={i}>
            <span className="break-all">{v.by}</span>
            {v.line ? `, line ${v.line}` : ""} <span className="text-sm soft">{v.why}</span>
            <ul className="border-l border-base-300 pl-4">
              {items
                .find((other) => other.shown === v.by)
                ?.signatures.map((s, j) => (
                  <li key={j}>
                    <span className="break-all">{s.by}</span> <span className="text-sm soft">{s.why}</span>
                  </li>
                ))}
            </ul>
          </li>
        ))}
      </ul>
      {held.length > 0 && (
        <ul className="rows pl-5">
          {held.map((inner) => (
            <Tree key={inner.path} item={inner} items={items} />
          ))}
        </ul>
      )}
    </li>
  );
}
