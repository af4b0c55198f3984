import { useState, type FormEvent } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api } from "../api/client";
import { AsCommand } from "../frame/copy";
import { Ago } from "../frame/time";
import { TroubleNote } from "../frame/trouble";

/** The SSH keys by which every client and editor gets into one's workspaces. */
export function Keys() {
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
