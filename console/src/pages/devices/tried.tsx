import type { KindTried } from "../../api/devices";

/** What was read of an answer by a description, or why it is none. */
export function Tried({ tried }: { tried: KindTried }) {
  return (
    <div role="status" className="flex flex-col gap-1 border-l-4 border-base-300 pl-3">
      <p className="soft">
        About slot {tried.slot} it would be asked: <span className="font-mono text-sm">{tried.question}</span>
      </p>
      {tried.finding ? (
        <p>
          <span className="font-semibold">What was pasted is no answer by this description.</span> {tried.finding.sentence}
        </p>
      ) : (
        <p>
          <span className="font-semibold">It is read: {tried.algorithm}</span>{" "}
          <span className="font-mono text-sm wrap-anywhere">{tried.value}</span>
        </p>
      )}
    </div>
  );
}
