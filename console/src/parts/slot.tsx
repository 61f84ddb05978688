import { Link } from "react-router";

import type { DeviceSlot, SlotCheck, SlotReport as Report } from "../api/devices";
import { bytes, moment } from "./text";
import { Mark } from "./verdict";

/** What a slot was found to hold, in a few words. */
export function Holds({ check }: { check: SlotCheck }) {
  if (check.finding) return <span>no answer: {check.finding.sentence}</span>;
  if (!check.holds) return <span>no release that is known</span>;
  const name =
    check.holds.batch !== undefined ? (
      <Link to={`/batches/${check.holds.batch}/items/${check.holds.n ?? 0}`} className="quiet-link break-all">
        {check.holds.shown}
      </Link>
    ) : (
      "the digest that was given"
    );
  return (check.now ?? check.verdict) === "refused" ? <span>not {name}</span> : name;
}

/** The slots of a device as they were last found; those that did not answer for one reason are one row. */
export function Slots({ slots }: { slots: DeviceSlot[] }) {
  const reason = (s?: DeviceSlot) => s?.checked?.finding?.sentence;
  const [first] = slots;
  if (first && slots.length > 1 && reason(first) && slots.every((s) => reason(s) === reason(first))) {
    return <SlotState slot={{ ...first, title: slots.length === 2 ? "both slots" : "every slot" }} />;
  }
  return slots.map((s) => <SlotState key={s.slot} slot={s} />);
}

function SlotState({ slot }: { slot: DeviceSlot }) {
  const check = slot.checked;
  return (
    <div className="grid grid-cols-[6rem_6.5rem_1fr] items-baseline gap-x-2">
      <span className="font-semibold">{slot.title}</span>
      {check ? (
        <>
          <Link to={`/batches/${check.batch}/items/${check.n}`}>
            <Mark word={check.now ?? check.verdict} />
          </Link>
          <span>
            <Holds check={check} />
            {slot.since && !check.finding && <span className="text-sm soft"> since {moment(slot.since)}</span>}
          </span>
        </>
      ) : (
        <span className="col-span-2 soft">never asked</span>
      )}
    </div>
  );
}

const reached: Record<string, string> = {
  console: "its console",
  command: "a command",
  typed: "a person, who copied what its console shows",
};

/** What a device was asked about a slot, and what it said. */
export function SlotReport({ said, size }: { said: Report; size: number }) {
  return (
    <section className="flex flex-col gap-2" data-slot>
      <h2>What the device said</h2>
      <p>
        <Link to={`/devices/${said.device}`} className="quiet-link">
          {said.device}
        </Link>
        , by {reached[said.reach] ?? said.reach}
        {said.address && ` at ${said.address}`}
        {said.milliseconds !== undefined && said.milliseconds > 0 && `, in ${(said.milliseconds / 1000).toFixed(1)} s`}. Its digest covers{" "}
        {said.covers === "slot" ? "all of the slot, with what fills it behind the image" : "as many bytes as the image has"}
        {size > 0 && ` (${bytes(size)})`}.
      </p>
      {said.host_key && (
        <p className="text-sm">
          Known by its host key <span className="font-mono break-all">{said.host_key}</span>
        </p>
      )}
      {(said.question ?? said.said) && (
        <pre className="break-all whitespace-pre-wrap rounded-box border border-base-300 bg-base-200 p-3 text-sm">
          {said.question && <span className="soft">{said.question + "\n"}</span>}
          {said.said}
        </pre>
      )}
    </section>
  );
}
