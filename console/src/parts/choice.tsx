import { SelectField } from "./field";

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
    <SelectField label={label} value={value} change={change}>
      {none && <option value="">{none}</option>}
      {words.map((word) => (
        <option key={word}>{word}</option>
      ))}
    </SelectField>
  );
}
