import { useState } from "react";

import { TextField } from "./field";
import { ProblemNote } from "./problem-note";

/** Something that is done for a reason. */
export function WithReason({
  label,
  hint,
  button,
  disabled,
  error,
  submit,
}: {
  label: string;
  hint: string;
  button: string;
  disabled: boolean;
  error: unknown;
  submit: (reason: string) => void;
}) {
  const [reason, setReason] = useState("");
  return (
    <form
      className="flex flex-wrap items-end gap-3 pt-2"
      onSubmit={(event) => {
        event.preventDefault();
        submit(reason);
      }}
    >
      <div className="min-w-64 flex-1">
        <TextField label={label} hint={hint} required value={reason} change={setReason} />
      </div>
      <button type="submit" className="btn" disabled={disabled}>
        {button}
      </button>
      {error !== null && <ProblemNote error={error} />}
    </form>
  );
}
