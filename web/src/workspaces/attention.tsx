import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Workspace } from "../api/client";
import { TroubleNote } from "../frame/trouble";
import { correcting } from "./plate";

/** What needs a person, each with its one next action. */
export function Attention({ list }: { list: Workspace[] }) {
  const troubled = list.filter((w) => w.state === "failed" || w.state === "lost" || (w.state === "ready" && (w.reason || w.stopsAt)));
  return (
    <aside aria-labelledby="attention" className="inked lg:border-l lg:pl-8">
      <h2 id="attention" className="mb-4 text-xl font-semibold">
        Needs you
      </h2>
      {troubled.length === 0 && <p className="quiet">Nothing. All is as it was asked for.</p>}
      <ul className="flex flex-col gap-4">
        {troubled.map((w) => (
          <Item key={w.id} workspace={w} />
        ))}
      </ul>
    </aside>
  );
}

function Item({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const again = useMutation({ mutationFn: () => api.provision({ source: w.source, ref: w.ref, name: w.name, file: w.file, size: w.size, mount: w.mount }) });
  const stay = useMutation({ mutationFn: () => api.stay(w.name), onSuccess: () => queries.invalidateQueries({ queryKey: ["workspaces"] }) });
  return (
    <li className="inked border-b pb-3">
      <Link to={`/workspaces/${w.name}`} className="font-semibold hover:underline">
        {w.name}
      </Link>
      <p className="line-clamp-4 text-sm break-words">{w.reason}</p>
      {w.stopsAt && (
        <>
          <p className="text-sm">Nobody uses it; it stops at {new Date(w.stopsAt).toLocaleTimeString()}.</p>
          <button type="button" className="btn btn-sm mt-2" disabled={stay.isPending} onClick={() => stay.mutate()}>
            Keep it running
          </button>
        </>
      )}
      {w.goesOn === false && (
        <Link to={correcting(w)} className="btn btn-sm mt-2">
          Correct the address
        </Link>
      )}
      {w.goesOn && (
        <button type="button" className="btn btn-sm mt-2" disabled={again.isPending} onClick={() => again.mutate()}>
          Go on from there
        </button>
      )}
      <TroubleNote error={again.error ?? stay.error} />
    </li>
  );
}
