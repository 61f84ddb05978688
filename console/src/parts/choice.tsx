import { Field } from "./field";

/** A labelled list of words to choose from; none is what an empty choice is called. */
export function Choice({
  label,
  value,
  words,
  none,
  change,
}: {
  label: string;
  value: string;
  words: readonly string[];
  none?: string;
  change: (word: string) => void;
}) {
  return (
    <Field label={label}>
      {(id) => (
        <select
          id={id}
          className="select w-full"
          value={value}
          onChange={(e) => {
            change(e.target.value);
          }}
        >
          {none && <option value="">{none}</option>}
          {words.map((word) => (
            <option key={word}>{word}</option>
          ))}
        </select>
      )}
    </Field>
  );
}
