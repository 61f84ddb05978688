import { type SubmitEvent, useState } from "react";
import { useLocation, useNavigate } from "react-router";

import { useSignIn } from "../../api/people";
import { TextField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { Wordmark } from "../../parts/wordmark";

export function SignInPage() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useSignIn();
  const go = useNavigate();
  const from = (useLocation().state as { from?: string } | null)?.from ?? "/";
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    signIn.mutate({ name, password }, { onSuccess: () => void go(from, { replace: true }) });
  };
  return (
    <main className="flex min-h-dvh items-center justify-center bg-base-200 p-4 text-base-content">
      <div className="w-full max-w-sm rounded-box border border-base-300 bg-base-100 p-6">
        <Wordmark />
        <h1 className="mb-4 mt-4">Sign in</h1>
        <form onSubmit={submit} className="flex flex-col gap-4">
          <TextField label="Name" autoComplete="username" required value={name} change={setName} />
          <TextField label="Password" type="password" autoComplete="current-password" required value={password} change={setPassword} />
          <button type="submit" className="btn btn-primary" disabled={signIn.isPending}>
            Sign in
          </button>
        </form>
        {signIn.error && <ProblemNote error={signIn.error} />}
      </div>
    </main>
  );
}
