import type { Cause } from "../api/client";
import { bytes, count } from "./text";

/** Why a file does not match, and what to do, with a map of the damage where it is known. */
export function Causes({ findings }: { findings: Cause[] }) {
  return (
    <ul className="my-2 flex flex-col gap-2">
      {findings.map((f) => (
        <li key={f.code} data-finding={f.code}>
          <p>{f.sentence}</p>
          {f.damage && f.size !== undefined && <DamageMap damage={f.damage} size={f.size} />}
          <p className="font-semibold">{f.advice}</p>
        </li>
      ))}
    </ul>
  );
}

/**
 * The file from its first byte to its last, with the damaged parts filled and
 * hatched. A part is drawn at least wide enough to be seen. A rough map names no bytes.
 */
export function DamageMap({ damage, size, rough }: { damage: { offset: number; length: number }[]; size: number; rough?: boolean }) {
  const width = 1000;
  const least = 4;
  return (
    <figure className="my-2 max-w-3xl">
      <svg
        viewBox={`0 0 ${width} 36`}
        className="h-9 w-full"
        role="img"
        aria-label={`Map of the damage: ${count(damage.length, "damaged part")} in ${bytes(size)}`}
        preserveAspectRatio="none"
      >
        <defs>
          <pattern id="damage" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="6" height="6" className="fill-error" />
            <rect width="2" height="6" className="fill-base-100" />
          </pattern>
        </defs>
        <rect x="0.5" y="0.5" width={width - 1} height="35" className="fill-base-200 stroke-base-300" />
        {damage.map((d) => (
          <rect
            key={d.offset}
            x={(width * d.offset) / size}
            y="1"
            width={Math.max(least, (width * d.length) / size)}
            height="34"
            fill="url(#damage)"
          />
        ))}
      </svg>
      <figcaption className="flex justify-between text-sm soft">
        <span>first byte</span>
        <span>{bytes(size)}</span>
      </figcaption>
      {!rough && (
        <details className="text-sm">
          <summary className="cursor-pointer">{count(damage.length, "damaged part")}, byte by byte</summary>
          <ul className="list-disc pl-6 font-mono">
            {damage.map((d) => (
              <li key={d.offset}>
                {d.offset} to {d.offset + d.length - 1}
              </li>
            ))}
          </ul>
        </details>
      )}
    </figure>
  );
}
