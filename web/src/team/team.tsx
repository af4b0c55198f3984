import { useState, type FormEvent } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api } from "../api/client";
import { AsCommand } from "../frame/copy";
import { Ago } from "../frame/time";
import { TroubleNote } from "../frame/trouble";
import { GitHosts, Own, Registries, Secrets } from "./credentials";

export function Team() {
  const account = useQuery({ queryKey: ["account"], queryFn: api.account });
  return (
    <div className="grid gap-10 lg:grid-cols-2">
      <Keys />
      <Own />
      <GitHosts />
      <Secrets />
      {account.data?.admin && <Accounts />}
      {account.data?.admin && <Registries />}
    </div>
  );
}

function Keys() {
  const queries = useQueryClient();
  const keys = useQuery({ queryKey: ["keys"], queryFn: api.keys });
  const [text, setText] = useState("");
  const again = () => queries.invalidateQueries({ queryKey: ["keys"] });
  const add = useMutation({
    mutationFn: () => api.addKey(text),
    onSuccess: () => {
      setText("");
      return again();
    },
  });
  const remove = useMutation({ mutationFn: api.removeKey, onSuccess: again });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    add.mutate();
  };
  return (
    <section aria-labelledby="keys" className="min-w-0">
      <h1 id="keys" className="mb-4 text-xl font-semibold">
        Your SSH keys
      </h1>
      {keys.data?.length === 0 && <p className="quiet">You have none yet. With one, every SSH client and editor gets into your workspaces.</p>}
      <ul>
        {keys.data?.map((k) => (
          <li key={k.id} className="inked flex items-start justify-between gap-4 border-b py-2">
            <div className="min-w-0">
              <div>{k.comment || k.kind}</div>
              <code className="block font-mono text-sm break-all">{k.fingerprint}</code>
              <div className="quiet text-sm">
                added <Ago at={k.created} />
              </div>
            </div>
            <button type="button" className="btn btn-sm" onClick={() => remove.mutate(k.id)} aria-label={`Remove the key ${k.comment || k.fingerprint}`}>
              Remove
            </button>
          </li>
        ))}
      </ul>
      <form className="mt-4 flex flex-col gap-2" onSubmit={submit}>
        <label className="flex flex-col gap-1">
          Add a public key
          <textarea className="textarea w-full font-mono text-sm" rows={3} name="key" required placeholder="ssh-ed25519 AAAA… you@laptop" value={text} onChange={(e) => setText(e.target.value)} />
        </label>
        <TroubleNote error={add.error ?? remove.error ?? keys.error} />
        <button className="btn btn-primary self-start" disabled={add.isPending}>
          Add the key
        </button>
        <AsCommand>domicile keys add ~/.ssh/id_ed25519.pub</AsCommand>
      </form>
    </section>
  );
}

function Accounts() {
  const queries = useQueryClient();
  const accounts = useQuery({ queryKey: ["accounts"], queryFn: api.accounts });
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const add = useMutation({
    mutationFn: () => api.addAccount({ name, password }),
    onSuccess: () => {
      setName("");
      setPassword("");
      return queries.invalidateQueries({ queryKey: ["accounts"] });
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    add.mutate();
  };
  return (
    <section aria-labelledby="people" className="min-w-0">
      <h2 id="people" className="mb-4 text-xl font-semibold">
        People
      </h2>
      <ul>
        {accounts.data?.map((a) => (
          <li key={a.id} className="inked flex justify-between border-b py-2">
            <span>{a.name}</span>
            <span className="quiet">{a.admin ? "administrator" : "member"}</span>
          </li>
        ))}
      </ul>
      <form className="mt-4 flex flex-col gap-2" onSubmit={submit}>
        <label className="flex flex-col gap-1">
          Name of a new account
          <input className="input w-full" autoComplete="off" required value={name} onChange={(e) => setName(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1">
          Its first password
          <input className="input w-full" type="password" autoComplete="new-password" required value={password} onChange={(e) => setPassword(e.target.value)} />
        </label>
        <TroubleNote error={add.error ?? accounts.error} />
        <button className="btn self-start" disabled={add.isPending}>
          Make the account
        </button>
        <AsCommand>domicile accounts add NAME</AsCommand>
      </form>
    </section>
  );
}
