import { useState, type FormEvent } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api } from "../api/client";
import { AsCommand } from "../frame/copy";
import { TroubleNote } from "../frame/trouble";

/** The links by which one's editors are opened at a workspace, each one click on its plate. */
export function Editors() {
  const queries = useQueryClient();
  const editors = useQuery({ queryKey: ["editors"], queryFn: api.editors });
  const [name, setName] = useState("");
  const [link, setLink] = useState("");
  const again = () => queries.invalidateQueries({ queryKey: ["editors"] });
  const set = useMutation({
    mutationFn: () => api.setEditor(name, link),
    onSuccess: () => {
      setName("");
      setLink("");
      return again();
    },
  });
  const remove = useMutation({ mutationFn: api.removeEditor, onSuccess: again });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    set.mutate();
  };
  return (
    <section aria-labelledby="editors" className="min-w-0">
      <h2 id="editors" className="mb-4 text-xl font-semibold">
        Your editors
      </h2>
      {editors.data?.length === 0 && <p className="quiet">None yet. An editor that opens an address over SSH by a link of its own is one click on each plate.</p>}
      <ul>
        {editors.data?.map((e) => (
          <li key={e.name} className="inked flex items-start justify-between gap-4 border-b py-2">
            <div className="min-w-0">
              <div>{e.name}</div>
              <code className="block font-mono text-sm break-all">{e.link}</code>
            </div>
            <button type="button" className="btn btn-sm" onClick={() => remove.mutate(e.name)} aria-label={`Remove the editor ${e.name}`}>
              Remove
            </button>
          </li>
        ))}
      </ul>
      <form className="mt-4 flex flex-col gap-2" onSubmit={submit}>
        <label className="flex flex-col gap-1">
          Its name
          <input className="input" name="editor" required value={name} onChange={(e) => setName(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1">
          Its link, with {"{host}, {port}, {user}, {address}, {workspace} and {path}"}
          <input className="input w-full font-mono text-sm" name="link" required placeholder="ssh://{user}@{host}:{port}{path}" value={link} onChange={(e) => setLink(e.target.value)} />
        </label>
        <TroubleNote error={set.error ?? remove.error ?? editors.error} />
        <button className="btn btn-primary self-start" disabled={set.isPending}>
          Keep the editor
        </button>
        <AsCommand>{"domicile editors set NAME 'ssh://{user}@{host}:{port}{path}'"}</AsCommand>
      </form>
    </section>
  );
}
