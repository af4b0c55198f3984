import { useMutation } from "@tanstack/react-query";
import { Check, X } from "lucide-react";
import { api, type Workspace } from "../api/client";
import { AsCommand } from "../frame/copy";
import { TroubleNote } from "../frame/trouble";

/** Tries the way into a workspace as far as the service can, and shows each step. */
export function TryWays({ workspace: w }: { workspace: Workspace }) {
  const tried = useMutation({ mutationFn: () => api.ways(w.name) });
  return (
    <div className="text-sm">
      <button type="button" className="btn btn-ghost btn-sm -ml-2" onClick={() => tried.mutate()} disabled={tried.isPending}>
        {tried.isPending ? "Trying …" : "Try the way in"}
      </button>
      <TroubleNote error={tried.error} />
      {tried.data && (
        <ol aria-label="Steps of the way in" className="flex flex-col gap-1">
          {tried.data.steps.map((s) => (
            <li key={s.name} className="flex items-start gap-2">
              {s.fine ? <Check size={16} aria-hidden className="mt-0.5 shrink-0 text-success" /> : <X size={16} aria-hidden className="mt-0.5 shrink-0 text-error" />}
              <span className="min-w-0 break-words">
                {s.name}: {s.fine ? s.found : `no. ${s.found}`}
                {s.remedy && <span className="block">What to do: {s.remedy}</span>}
              </span>
            </li>
          ))}
          <li className="quiet mt-1">The rest only your own machine can try:</li>
        </ol>
      )}
      {tried.data && <AsCommand>{`domicile address ${w.name} -test`}</AsCommand>}
    </div>
  );
}
