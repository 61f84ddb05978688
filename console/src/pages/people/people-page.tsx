import { mayAdminister, useMe } from "../../api/people";
import { Everybody } from "./everybody";
import { PasswordForm } from "./password-form";
import { Tokens } from "./tokens";

/** One's own password and tokens, and everybody for an administrator. */
export function PeoplePage() {
  const me = useMe();
  if (!me.data) return null;
  return (
    <div className="flex flex-col gap-6">
      <h1>People</h1>
      {mayAdminister(me.data) && <Everybody me={me.data.name} />}
      <PasswordForm />
      <Tokens me={me.data} />
    </div>
  );
}
