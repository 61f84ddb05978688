import { type SubmitEvent, useState } from "react";

import { useChangePassword } from "../../api/people";
import { SecretField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";

/** Changes one's own password. */
export function PasswordForm() {
  const change = useChangePassword();
  const [old, setOld] = useState("");
  const [password, setPassword] = useState("");
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    change.mutate(
      { old, password },
      {
        onSuccess: () => {
          setOld("");
          setPassword("");
        },
      },
    );
  };
  return (
    <section>
      <h2 className="mb-1 border-b border-base-300 pb-1">Your password</h2>
      <form onSubmit={submit} className="grid max-w-2xl items-start gap-3 py-2 sm:grid-cols-2">
        <SecretField label="Password of now" autoComplete="current-password" value={old} change={setOld} />
        <SecretField
          label="New password"
          hint="At least 10 characters. A few words that do not belong together are good."
          autoComplete="new-password"
          value={password}
          change={setPassword}
        />
        <div>
          <button type="submit" className="btn btn-sm" disabled={change.isPending || old === "" || password === ""}>
            Change the password
          </button>
        </div>
      </form>
      {change.isSuccess && <p role="status">Your password is changed. Your sessions elsewhere have ended; your tokens go on.</p>}
      {change.error && <ProblemNote error={change.error} />}
    </section>
  );
}
