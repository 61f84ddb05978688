import { type ComponentProps, type ReactNode, useId } from "react";

interface Labelled {
  label: string;
  hint?: string;
}

/** What the fields of a text take beside what their element does; className is the width, and whole without. */
interface Text extends Labelled {
  change?: (text: string) => void;
}

/** A labelled form field. The child gets the id that the label points at. */
export function Field({ label, hint, children }: Labelled & { children: (id: string) => ReactNode }) {
  const id = useId();
  return (
    <div className="flex flex-col gap-1">
      <label htmlFor={id} className="font-semibold">
        {label}
      </label>
      {children(id)}
      {hint && <p className="text-sm soft">{hint}</p>}
    </div>
  );
}

/** Tells the text that an element has now. */
const telling = (change?: (text: string) => void) =>
  change && {
    onChange: (e: { target: { value: string } }) => {
      change(e.target.value);
    },
  };

/** A labelled line of text, or whatever else an input takes. */
export function TextField({ label, hint, change, className = "w-full", ...input }: Text & ComponentProps<"input">) {
  return (
    <Field label={label} hint={hint}>
      {(id) => <input id={id} className={`input ${className}`} {...input} {...telling(change)} />}
    </Field>
  );
}

/** A labelled choice of the options that are its children. */
export function SelectField({ label, hint, change, className = "w-full", ...select }: Text & ComponentProps<"select">) {
  return (
    <Field label={label} hint={hint}>
      {(id) => <select id={id} className={`select ${className}`} {...select} {...telling(change)} />}
    </Field>
  );
}

/** A labelled text of several lines. */
export function AreaField({ label, hint, change, className = "w-full", ...area }: Text & ComponentProps<"textarea">) {
  return (
    <Field label={label} hint={hint}>
      {(id) => <textarea id={id} className={`textarea ${className}`} {...area} {...telling(change)} />}
    </Field>
  );
}

/** A labelled field for files, which take is told when some are chosen. */
export function FileField({ label, hint, take, ...input }: Labelled & { take: (files: File[]) => void } & ComponentProps<"input">) {
  return (
    <Field label={label} hint={hint}>
      {(id) => (
        <input
          id={id}
          type="file"
          className="file-input w-full"
          {...input}
          onChange={(e) => {
            take([...(e.target.files ?? [])]);
          }}
        />
      )}
    </Field>
  );
}

/** A labelled field whose content is not shown. */
export function SecretField(props: Labelled & { autoComplete: string; value: string; change: (text: string) => void }) {
  return <TextField type="password" maxLength={1000} required {...props} />;
}
