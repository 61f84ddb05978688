import { Check, CircleDashed, CircleHelp, Hourglass, Paperclip, TriangleAlert, X } from "lucide-react";

const looks = {
  cleared: { icon: Check, colour: "text-success border-success/50" },
  unproven: { icon: CircleHelp, colour: "text-warning border-warning/60" },
  refused: { icon: X, colour: "text-error border-error/60" },
  companion: { icon: Paperclip, colour: "border-base-300" },
  absent: { icon: CircleDashed, colour: "border-base-300" },
  failed: { icon: TriangleAlert, colour: "text-error border-error/60" },
  cancelled: { icon: CircleDashed, colour: "border-base-300" },
  waiting: { icon: Hourglass, colour: "border-base-300" },
  measuring: { icon: Hourglass, colour: "text-primary border-primary/50" },
  admitted: { icon: Check, colour: "text-success border-success/50" },
  candidate: { icon: CircleHelp, colour: "text-warning border-warning/60" },
  withdrawn: { icon: X, colour: "text-error border-error/60" },
  revoked: { icon: X, colour: "text-error border-error/60" },
  expired: { icon: Hourglass, colour: "text-warning border-warning/60" },
  conflict: { icon: TriangleAlert, colour: "text-error border-error/60" },
} as const;

/** A verdict or state: word, icon and colour together. */
export function Mark({ word }: { word: string }) {
  const look = word in looks ? looks[word as keyof typeof looks] : looks.absent;
  const Icon = look.icon;
  return (
    <span className={`inline-flex items-center gap-1 whitespace-nowrap rounded border px-1.5 text-sm font-semibold ${look.colour}`}>
      <Icon size={14} strokeWidth={2.6} aria-hidden />
      {word}
    </span>
  );
}

/**
 * How a key stands: a state and the facts about it are one statement, and what the owner
 * or time has decided comes first.
 */
export function Standing({ k }: { k: { state: string; revoked?: object; expired: boolean } }) {
  const fact = k.revoked ? "revoked" : k.expired ? "expired" : undefined;
  if (!fact) return <Mark word={k.state} />;
  return (
    <span className="inline-flex items-center gap-1.5">
      <Mark word={fact} />
      <span className="text-sm soft">{k.state}</span>
    </span>
  );
}
