import { useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, type Snapshot, type Workspace } from "../api/client";
import { amount } from "../frame/amount";
import { Ask } from "../frame/ask";
import { AsCommand } from "../frame/copy";
import { Ago } from "../frame/time";
import { TroubleNote } from "../frame/trouble";

/** The kept states of a workspace: files and volumes, its services' too. */
export function Snapshots({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const [note, setNote] = useState("");
  const all = useQuery({ queryKey: ["snapshots", w.run?.id, w.run?.state], queryFn: api.snapshots });
  const again = () => queries.invalidateQueries({ queryKey: ["workspace", w.name] });
  const keep = useMutation({
    mutationFn: () => api.keepSnapshot(w.name, note),
    onSuccess: () => {
      setNote("");
      return again();
    },
  });
  const mine = all.data?.filter((s) => s.source === w.source) ?? [];
  if (w.mount || (w.state !== "ready" && w.state !== "stopped" && mine.length === 0)) return null;
  return (
    <section aria-labelledby="snapshots" className="mt-8">
      <h2 id="snapshots" className="mb-2 text-lg font-semibold">
        Snapshots
      </h2>
      <ul>
        {mine.map((s) => (
          <Kept key={s.id} snapshot={s} workspace={w} />
        ))}
      </ul>
      <form
        className="mt-2 flex flex-wrap gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate();
        }}
      >
        <input className="input min-w-0 grow" aria-label="What it is kept for" placeholder="what it is kept for" value={note} onChange={(e) => setNote(e.target.value)} />
        <button className="btn" disabled={keep.isPending || (w.state !== "ready" && w.state !== "stopped")}>
          Keep this state
        </button>
      </form>
      <AsCommand>{`domicile snapshots keep ${w.name}${note ? ` -note "${note}"` : ""}`}</AsCommand>
      <TroubleNote error={keep.error ?? all.error} />
    </section>
  );
}

function Kept({ snapshot: s, workspace: w }: { snapshot: Snapshot; workspace: Workspace }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [to, setTo] = useState("");
  const [name, setName] = useState(`${s.name}-copy`);
  const again = () => Promise.all([queries.invalidateQueries({ queryKey: ["snapshots"] }), queries.invalidateQueries({ queryKey: ["workspace", w.name] })]);
  const goBack = useMutation({ mutationFn: () => api.returnTo(w.name, s.id), onSuccess: again });
  const make = useMutation({ mutationFn: () => api.makeFromSnapshot(s.id, name), onSuccess: (made) => navigate(`/workspaces/${made.name}`) });
  const hand = useMutation({ mutationFn: () => api.handSnapshot(s.id, to), onSuccess: again });
  const remove = useMutation({ mutationFn: () => api.removeSnapshot(s.id), onSuccess: again });
  return (
    <li className="inked border-b py-2">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <span className="font-semibold">{s.note || `Snapshot ${s.id}`}</span>
        <span className="quiet text-sm">
          of {s.name}, {s.ready ? amount(s.bytes) : "not kept yet"}, <Ago at={s.created} />
        </span>
      </div>
      {s.ready && (
        <div className="mt-1 flex flex-wrap gap-2">
          <Ask button="Return to it" title={`Return ${w.name} to this state?`} yes="Return to it" act={() => goBack.mutate()}>
            All that came into {w.name} since then is lost, in its services&apos; volumes too.
          </Ask>
          <Ask button="Make another of it" title="Make another workspace of it" yes="Make it" harmless act={() => make.mutate()}>
            <label className="flex flex-col gap-1">
              Its name
              <input className="input w-full" value={name} onChange={(e) => setName(e.target.value)} />
            </label>
          </Ask>
          <Ask button="Hand it on" title="Give this state to another account?" yes="Give it" act={() => hand.mutate()}>
            All files in it go with it, your home folder too.
            <label className="mt-2 flex flex-col gap-1">
              Account
              <input className="input w-full" value={to} onChange={(e) => setTo(e.target.value)} />
            </label>
          </Ask>
          <Ask button="Remove" title="Remove this state?" yes="Remove it" act={() => remove.mutate()}>
            Nobody can return to it then. Workspaces that were made of it stay.
          </Ask>
        </div>
      )}
      <TroubleNote error={goBack.error ?? make.error ?? hand.error ?? remove.error} />
    </li>
  );
}
