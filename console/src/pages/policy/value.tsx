import type { Policy, PolicyField } from "../../api/client";
import { among } from "../../api/words";

/** A value of a policy as people read it. */
export const shown = (value: string | number | boolean | string[] | undefined) => {
  if (value === undefined) return "none";
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (Array.isArray(value)) return value.length > 0 ? value.join(", ") : "none";
  return typeof value === "number" ? value.toLocaleString("en") : value;
};

/** What a policy has in a field, which it may leave out. */
export const valueOf = (policy: Policy, field: PolicyField) =>
  policy[field.name as keyof Policy] ?? (field.otherwise as Policy[keyof Policy]);

/** The field for one value, by its kind. */
export function Value({
  field,
  draft,
  change,
  label,
}: {
  field: PolicyField;
  draft: Policy;
  change: (draft: Policy) => void;
  label?: string;
}) {
  const name = field.name as keyof Policy;
  const value = valueOf(draft, field) ?? [];
  if (typeof value === "boolean") {
    return (
      <select
        aria-label={label}
        className="select select-sm w-full"
        value={value ? "yes" : "no"}
        onChange={(e) => {
          change({ ...draft, [name]: e.target.value === "yes" });
        }}
      >
        <option>yes</option>
        <option>no</option>
      </select>
    );
  }
  const choices = field.choices;
  if (choices && typeof value === "string") {
    return (
      <select
        aria-label={label}
        className="select select-sm w-full"
        value={value}
        onChange={(e) => {
          change({ ...draft, [name]: among(choices, e.target.value) });
        }}
      >
        {choices.map((c) => (
          <option key={c}>{c}</option>
        ))}
      </select>
    );
  }
  if (Array.isArray(value)) {
    return (
      <input
        aria-label={label}
        className="input input-sm w-full"
        required={name !== "companions"}
        value={value.join(" ")}
        onChange={(e) => {
          change({ ...draft, [name]: e.target.value === "" ? [] : e.target.value.split(" ") });
        }}
      />
    );
  }
  if (typeof value === "number") {
    return (
      <input
        aria-label={label}
        type="number"
        min={0}
        step={1}
        required
        className="input input-sm w-full"
        value={value}
        onChange={(e) => {
          change({ ...draft, [name]: e.target.valueAsNumber });
        }}
      />
    );
  }
  return (
    <input
      aria-label={label}
      className="input input-sm w-full"
      required
      value={value}
      onChange={(e) => {
        change({ ...draft, [name]: e.target.value });
      }}
    />
  );
}
