import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Workspace } from "../api/client";
import { Ask } from "../frame/ask";
import { AsCommand } from "../frame/copy";
import { Entry } from "../frame/entry";
import { TroubleNote } from "../frame/trouble";

/** What differs from the definition, looked for on request. */
export function Drifted({ workspace: w }: { workspace: Workspace }) {
  const drift = useQuery({ queryKey: ["workspace", w.name, "drift"], queryFn: () => api.drift(w.name), enabled: false });
  if (w.state !== "ready" && w.state !== "stopped") return null;
  return (
    <section aria-labelledby="drift" className="mt-8">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-4">
        <h2 id="drift" className="text-lg font-semibold">
          What differs from the definition
        </h2>
        <button type="button" className="btn btn-sm" onClick={() => void drift.refetch()} disabled={drift.isFetching}>
          {drift.isFetching ? "Looking …" : "Look"}
        </button>
      </div>
      {drift.data?.length === 0 && <p>{w.name} is as its definition says.</p>}
      <ul>
        {drift.data?.map((d) => (
          <li key={d.kind + d.name} className="inked border-b py-1">
            <span className="font-semibold">{d.name}</span> <span className="quiet">({d.kind})</span>: {d.says}
            {d.line && <code className="block font-mono text-sm break-words">{d.line}</code>}
          </li>
        ))}
      </ul>
      <AsCommand>{`domicile drift ${w.name}`}</AsCommand>
      <TroubleNote error={drift.error} />
    </section>
  );
}

/** Places beside the workspace, reached by name from inside. */
export function Helpers({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["workspace", w.name] });
  const remove = useMutation({ mutationFn: api.remove, onSuccess: again });
  if (w.name.includes(".") || (w.state !== "ready" && !w.helpers?.length)) return null;
  return (
    <section aria-labelledby="helpers" className="mt-8">
      <h2 id="helpers" className="mb-2 text-lg font-semibold">
        Helpers
      </h2>
      {w.helpers?.length ? (
        <ul>
          {w.helpers.map((h) => (
            <li key={h.full} className="inked flex flex-wrap items-center gap-x-4 border-b py-1">
              <Link to={`/workspaces/${h.full}`} className="link font-semibold">
                {h.name}
              </Link>
              <span>{h.state}</span>
              <code className="font-mono text-sm">ssh {h.name}</code>
              <span className="ml-auto">
                <Ask button="Remove" title={`Remove the helper ${h.name}?`} yes="Remove it" act={() => remove.mutate(h.full)}>
                  All files in it that are not the workspace&apos;s source are lost.
                </Ask>
              </span>
            </li>
          ))}
        </ul>
      ) : (
        <p className="quiet">None. A helper is a second place beside this one, for tools or another language; programs here reach it by its name.</p>
      )}
      {w.state === "ready" && (
        <details className="mt-2">
          <summary className="cursor-pointer">Make one</summary>
          <Entry
            fields={[
              { name: "image", label: "Image", placeholder: "registry.example.com/tools:1" },
              { name: "name", label: "Name", placeholder: "tools" },
            ]}
            send={(v) => api.addHelper(w.name, { name: v.name ?? "", image: v.image, share: true }).then(again)}
            button="Make the helper"
            command={(v) => `domicile helper ${w.name} -image ${v.image || "IMAGE"} -as ${v.name || "NAME"} -share`}
          />
        </details>
      )}
      <TroubleNote error={remove.error} />
    </section>
  );
}

/** A notice that it stops by itself soon, with the one way to keep it. */
export function StopsSoon({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const stay = useMutation({ mutationFn: () => api.stay(w.name), onSuccess: () => queries.invalidateQueries({ queryKey: ["workspace", w.name] }) });
  if (!w.stopsAt) return null;
  return (
    <div role="status" className="plate px-5 py-3">
      <p>Nobody uses it. It stops at {new Date(w.stopsAt).toLocaleTimeString()}; its files stay.</p>
      <button type="button" className="btn btn-primary mt-2" onClick={() => stay.mutate()} disabled={stay.isPending}>
        Keep it running
      </button>
      <AsCommand>{`domicile stay ${w.name}`}</AsCommand>
      <TroubleNote error={stay.error} />
    </div>
  );
}

/** A rebuild, asked for after it is told what it would do and what would be lost. */
export function Rebuild({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const [pull, setPull] = useState(false);
  const [open, setOpen] = useState(0);
  const foreseen = useQuery({ queryKey: ["workspace", w.name, "foreseen", pull, open], queryFn: () => api.foresee(w.name, pull), enabled: open > 0, gcTime: 0 });
  const rebuild = useMutation({ mutationFn: () => api.rebuild(w.name, pull), onSuccess: () => queries.invalidateQueries({ queryKey: ["workspace", w.name] }) });
  const f = foreseen.data;
  return (
    <>
      <Ask className="btn" button="Rebuild …" title={`Rebuild ${w.name}?`} yes="Rebuild it" act={() => rebuild.mutate()} onOpen={() => setOpen(open + 1)} disabled={rebuild.isPending} harmless={f?.lost.length === 0}>
        {foreseen.isFetching && <p>Comparing with the definition as it is now …</p>}
        {f && !foreseen.isFetching && (
          <>
            {f.steps.length === 0 && !f.replaces ? <p>Nothing of the definition changed: there is nothing to do again.</p> : <Lines title="To be done again" lines={f.steps} />}
            {f.replaces && <p className="mt-2">The container is replaced; {f.keeps ? "the earlier one is kept until the new one works." : "its site cannot keep the earlier one until the new one works."}</p>}
            <Lines title="What stays" lines={f.stays} />
            <Lines title="What is lost" lines={f.lost} />
          </>
        )}
        <TroubleNote error={foreseen.error} />
        {w.commit && (
          <label className="mt-4 flex items-center gap-2">
            <input type="checkbox" className="checkbox" checked={pull} onChange={(e) => setPull(e.target.checked)} />
            Bring new commits too, but never over changes
          </label>
        )}
        <div className="mt-4">
          <AsCommand>{`domicile rebuild ${w.name}${pull ? " -pull" : ""}`}</AsCommand>
        </div>
      </Ask>
      <TroubleNote error={rebuild.error} />
    </>
  );
}

export function Lines({ title, lines }: { title: string; lines: string[] }) {
  if (lines.length === 0) return null;
  return (
    <>
      <h4 className="mt-2 font-semibold">{title}</h4>
      <ul className="list-disc pl-5">
        {lines.map((l) => (
          <li key={l} className="break-words">
            {l}
          </li>
        ))}
      </ul>
    </>
  );
}
