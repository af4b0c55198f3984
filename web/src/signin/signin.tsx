import { useState, type FormEvent } from "react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { api } from "../api/client";
import { TroubleNote } from "../frame/trouble";

/** Signing in, or making the first account with the code from the service's link. */
export function SignIn({ onSignedIn }: { onSignedIn: () => void }) {
  const setup = useQuery({ queryKey: ["setup"], queryFn: api.setup });
  const code = location.hash.slice(1);
  const first = setup.data?.needed === true;
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useMutation({
    mutationFn: async () => (first ? api.makeFirstAccount({ code, name, password }) : api.signIn({ name, password })),
    onSuccess: () => {
      history.replaceState(null, "", first ? "/welcome" : location.pathname === "/setup" ? "/" : location.pathname);
      window.dispatchEvent(new PopStateEvent("popstate")); // so that the pages know where they are
      onSignedIn();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    enter.mutate();
  };
  return (
    <main className="mx-auto flex min-h-screen max-w-md flex-col justify-center p-6">
      <div className="plate p-10">
        <title>Sign in – Domicile</title>
        <h1 className="flex items-end gap-3 text-3xl font-semibold">
          <img src="/door.svg" alt="" width="32" height="32" /> Domicile
        </h1>
        <p className="quiet mt-2">
          {first ? (code ? "Nobody lives here yet. Make the first account; it looks after the others." : "Nobody lives here yet. Open the link that the service printed when it started.") : "Who is there?"}
        </p>
        <form className="mt-6 flex flex-col gap-4" onSubmit={submit}>
          <label className="flex flex-col gap-1">
            Name
            <input className="input w-full" name="name" autoComplete="username" required autoFocus value={name} onChange={(e) => setName(e.target.value)} />
          </label>
          <label className="flex flex-col gap-1">
            Password
            <input className="input w-full" name="password" type="password" autoComplete={first ? "new-password" : "current-password"} required value={password} onChange={(e) => setPassword(e.target.value)} />
          </label>
          <TroubleNote error={enter.error} />
          <button className="btn btn-primary" disabled={enter.isPending || (first && !code)}>
            {enter.isPending ? "One moment …" : first ? "Make the account" : "Come in"}
          </button>
        </form>
        <p className="quiet mt-6 text-sm">
          <a href="/clients" className="link">
            The command line for your machine
          </a>
        </p>
      </div>
    </main>
  );
}
