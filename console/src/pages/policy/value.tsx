import type { Policy } from "../../api/client";

/** A value of a policy as people read it. */
export const shown = (value: string | number | boolean | string[]) => {
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (Array.isArray(value)) return value.join(" ");
  return typeof value === "number" ? value.toLocaleString("en") : value;
};

/** The field for one value, by its kind. */
export function Value({ name, draft, change, label }: { name: keyof Policy; draft: Policy; change: (draft: Policy) => void; label?: string }) {
  const value = draft[name];
  if (typeof value === "boolean") {
    return (
      <select aria-label={label} className="select select-sm w-full" value={value ? "yes" : "no"} onChange={(e) => { change({ ...draft, [name]: e.target.value === "yes" }); }}>
        <option>yes</option>
        <option>no</option>
      </select>
    );
  }
  if (name === "expired_signer") {
    return (
      <select aria-label={label} className="select select-sm w-full" value={draft.expired_signer} onChange={(e) => { change({ ...draft, [name]: e.target.value }); }}>
        <option>withholds</option>
        <option>notes</option>
      </select>
    );
  }
  if (Array.isArray(value)) {
    return (
      <input
        aria-label={label}
        className="input input-sm w-full"
        required
        value={value.join(" ")}
        onChange={(e) => { change({ ...draft, [name]: e.target.value.split(" ") }); }}
      />
    );
  }
  if (typeof value === "number") {
    return <input aria-label={label} type="number" min={0} step={1} required className="input input-sm w-full" value={value} onChange={(e) => { change({ ...draft, [name]: e.target.valueAsNumber }); }} />;
  }
  return <input aria-label={label} className="input input-sm w-full" required value={value} onChange={(e) => { change({ ...draft, [name]: e.target.value }); }} />;
}
