import { Keys } from "./keys";
import { Password, Tokens } from "./access";
import { Editors } from "./editors";
import { GitHosts, Own, Secrets } from "./sealed";

/** What is a person's own: how they get in, and what goes with them into every workspace. */
export function You() {
  return (
    <div className="grid gap-10 lg:grid-cols-2">
      <title>You – Domicile</title>
      <Keys />
      <Editors />
      <Own />
      <GitHosts />
      <Secrets />
      <Tokens />
      <Password />
    </div>
  );
}
