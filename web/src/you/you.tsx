import { Link } from "react-router";
import { Keys } from "./keys";
import { Password, Tokens } from "./access";
import { Editors } from "./editors";
import { GitHosts, Own, Secrets } from "./sealed";

/** What is a person's own: how they get in, and what goes with them into every workspace. */
export function You() {
  return (
    <div className="grid gap-10 lg:grid-cols-2">
      <title>You – Domicile</title>
      <p className="lg:col-span-2">
        One line puts <code className="font-mono">domicile</code> on your own machine:{" "}
        <Link to="/clients" className="link">
          the command line for Linux, macOS and Windows
        </Link>
        .
      </p>
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
