import { Link } from "react-router";
import type { Run, Workspace } from "../api/client";
import { atWork, State } from "../frame/state";
import { Ago } from "../frame/time";

/** A workspace as a sign beside a door. */
export function Plate({ workspace: w }: { workspace: Workspace }) {
  return (
    <article className="plate flex h-full flex-col gap-1 px-5 py-4" aria-label={w.name}>
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <h2 className="min-w-0 text-xl font-semibold break-words">
          <Link to={`/workspaces/${w.name}`} className="hover:underline">
            {w.name}
          </Link>
        </h2>
        <State state={w.state} />
      </div>
      <p className="quiet truncate text-sm" title={w.source}>
        {shortSource(w.source)}
        {w.ref && ` at ${w.ref}`}
      </p>
      <div className="quiet mt-auto flex justify-between gap-4 pt-2 text-sm">
        <span>
          on {w.site}
          {w.user && `, as ${w.user}`}
        </span>
        <Ago at={w.lastUsed} />
      </div>
      {w.run && atWork(w.state) && <Progress run={w.run} />}
    </article>
  );
}

export const shortSource = (source: string) => source.replace(/^\w+:\/\//, "").replace(/\.git$/, "");

/** Where a workspace whose address is wrong is made anew. */
export const correcting = (w: Workspace) => `/new?${new URLSearchParams({ source: w.source, ...(w.ref && { ref: w.ref }) })}`;

/** How far a run is, in steps, and which one goes on. */
export function Progress({ run }: { run: Run }) {
  const over = run.steps.filter((s) => s.state === "done" || s.state === "skipped").length;
  const now = run.steps.find((s) => s.state === "running");
  return (
    <div className="pt-1 text-sm">
      <progress className="progress progress-primary h-1" value={over} max={run.steps.length} aria-label="Steps done" />
      <div className="flex justify-between gap-2">
        <span className="truncate">{now ? now.title : "waiting its turn"}</span>
        <span className="figures">
          {over} of {run.steps.length}
        </span>
      </div>
    </div>
  );
}
