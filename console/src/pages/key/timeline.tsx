import { useState } from "react";

import type { Key } from "../../api/client";
import { day } from "../../parts/text";

const dots: Record<string, string> = { revoked: "bg-error", "subkey-revoked": "bg-error", expires: "bg-warning" };

/** The life of a key by what its own signatures say, to scale where there is room. */
export function Timeline({ k }: { k: Key }) {
  const [now] = useState(() => Date.now());
  const times = [...k.timeline.map((e) => Date.parse(e.at)), now];
  const first = Math.min(...times);
  const span = Math.max(Math.max(...times) - first, 1);
  const at = (t: number) => `${((100 * (t - first)) / span).toFixed(2)}%`;
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">Life</h2>
      <div aria-hidden className="relative mx-2 my-3 h-3">
        <span className="absolute top-1/2 right-0 left-0 -translate-y-1/2 border-t-2 border-dotted border-base-content/40" />
        <span className="absolute top-1/2 left-0 h-1 -translate-y-1/2 bg-primary" style={{ width: at(now) }} />
        <span className="absolute top-[-3px] h-4.5 w-0.5 bg-base-content" style={{ left: at(now) }} />
        {k.timeline.map((e, i) => (
          <span
            key={i}
            title={`${day(e.at)}: ${e.detail}`}
            className={`absolute top-1/2 size-2.5 -translate-x-1/2 -translate-y-1/2 rounded-full ring-2 ring-base-100 ${dots[e.kind] ?? "bg-primary"}`}
            style={{ left: at(Date.parse(e.at)) }}
          />
        ))}
      </div>
      <ol className="grid gap-x-6 gap-y-0.5 text-sm sm:grid-cols-2">
        {k.timeline.map((e, i) => (
          <li key={i} className="flex gap-3">
            <span className="w-22 shrink-0 tabular-nums">{day(e.at)}</span>
            <span className={Date.parse(e.at) > now ? "soft" : ""}>{e.detail}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
