import { type ComponentProps, useId } from "react";

import { usePublishers } from "../api/publishers";
import { Field } from "./field";

/**
 * The choice of a publisher. none is what an empty choice is called; with
 * required it only asks for one and cannot be chosen.
 */
export function PublisherSelect({
  id,
  value,
  change,
  none,
  required = false,
  className = "select w-full",
}: {
  id?: string;
  value: string;
  change: (slug: string) => void;
  none: string;
  required?: boolean;
  className?: string;
}) {
  const publishers = usePublishers();
  return (
    <select
      id={id}
      className={className}
      required={required}
      value={value}
      onChange={(e) => {
        change(e.target.value);
      }}
    >
      <option value="" disabled={required}>
        {none}
      </option>
      {publishers.data?.items.map((p) => (
        <option key={p.slug} value={p.slug}>
          {p.name}
        </option>
      ))}
    </select>
  );
}

/** A labelled choice of a publisher. */
export function PublisherField({ label, hint, ...select }: { label: string; hint?: string } & ComponentProps<typeof PublisherSelect>) {
  return (
    <Field label={label} hint={hint}>
      {(id) => <PublisherSelect {...select} id={id} />}
    </Field>
  );
}

/** A choice of a publisher, or of all, for a list. */
export function PublisherFilter({ label, value, change }: { label: string; value: string; change: (slug: string) => void }) {
  const id = useId();
  return (
    <label htmlFor={id} className="flex items-center gap-2 text-sm">
      {label}
      <PublisherSelect id={id} className="select select-sm w-auto" none="all" value={value} change={change} />
    </label>
  );
}
