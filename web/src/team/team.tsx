import { useQuery } from "@tanstack/react-query";
import { api } from "../api/client";
import { Loading, TroubleNote } from "../frame/trouble";
import { People } from "./people";
import { Registries } from "./registries";
import { SignIns } from "./signins";

/** What is everybody's: the people, and what the service may use for them. */
export function Team() {
  const account = useQuery({ queryKey: ["account"], queryFn: api.account });
  if (account.isPending) return <Loading what="the team" />;
  if (!account.data) return <TroubleNote error={account.error} />;
  if (!account.data.admin)
    return (
      <section aria-labelledby="people">
        <title>Team – Domicile</title>
        <h1 id="people" className="mb-4 text-xl font-semibold">
          Team
        </h1>
        <p>An administrator looks after the people, the registries and what definitions may ask for here.</p>
      </section>
    );
  return (
    <div className="grid gap-10 lg:grid-cols-2">
      <title>Team – Domicile</title>
      <People own={account.data.name} />
      <SignIns />
      <Registries />
    </div>
  );
}
