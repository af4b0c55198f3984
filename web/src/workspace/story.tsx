import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { api, type Run, type Workspace } from "../api/client";
import { Ago, seconds } from "../frame/time";
import { TroubleNote } from "../frame/trouble";
import { Beside } from "./beside";
import { Guests } from "./guests";
import { Checks, Services, Tasks } from "./proof";
import { Snapshots } from "./snapshots";
import { Timeline } from "./timeline";
import { Drifted, Helpers, Lines } from "./upkeep";

const words: Record<Run["kind"], string> = { provision: "Provision", start: "Start", stop: "Stop", remove: "Removal", rebuild: "Rebuild", attach: "Attach", snapshot: "Snapshot", return: "Return", prepare: "Prepare", move: "Move", keep: "Keep warm", take: "Take over", copy: "Copy", anew: "Made anew" };

/** What happened to a workspace: the newest run in full, the earlier ones on request. */
export function Story({ workspace: w }: { workspace: Workspace }) {
  const runs = useQuery({ queryKey: ["workspace", w.name, "runs"], queryFn: () => api.runs(w.name) });
  const [chosen, setChosen] = useState<number>();
  if (!runs.data) return <TroubleNote error={runs.error} />;
  const shown = runs.data.find((r) => r.id === chosen) ?? runs.data[0];
  return (
    <div className="min-w-0">
      {shown && <ShownRun key={shown.id} run={shown} />}
      <Checks workspace={w} />
      <Services workspace={w} />
      <Tasks workspace={w} />
      <Helpers workspace={w} />
      <Guests workspace={w} />
      <Snapshots workspace={w} />
      <Drifted workspace={w} />
      <Beside workspace={w} />
      {runs.data.length > 1 && (
        <section aria-labelledby="history" className="mt-8">
          <h2 id="history" className="mb-2 text-lg font-semibold">
            Runs
          </h2>
          <ul>
            {runs.data.map((r) => (
              <li key={r.id}>
                <button
                  type="button"
                  className={`inked flex w-full cursor-pointer justify-between gap-4 border-b py-1 text-left hover:bg-base-200 ${r.id === shown?.id ? "font-semibold" : ""}`}
                  onClick={() => setChosen(r.id)}
                  aria-current={r.id === shown?.id}
                >
                  <span>
                    {words[r.kind]}, {r.state}
                    {r.note && <span className="quiet text-sm">, because {r.note}</span>}
                  </span>
                  <span className="quiet flex gap-4 text-sm">
                    <span className="figures">{took(r)}</span>
                    <Ago at={r.created} />
                  </span>
                </button>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

function took(r: Run): string {
  return r.started && r.ended ? seconds(Date.parse(r.ended) - Date.parse(r.started)) : "";
}

function ShownRun({ run }: { run: Run }) {
  return (
    <section aria-labelledby="run">
      <div className="mb-3 flex flex-wrap items-baseline justify-between gap-x-4">
        <h2 id="run" className="text-lg font-semibold">
          {words[run.kind]}, {run.state}
        </h2>
        <span className="quiet text-sm">
          {took(run) && `took ${took(run)}, `}
          <Ago at={run.created} />
        </span>
      </div>
      {run.note && <p className="quiet mb-2 text-sm">Because {run.note}.</p>}
      <Timeline run={run} />
      {run.advice && (
        <div className="mt-3 text-sm">
          <Lines title="Where the time went" lines={run.advice.where} />
          <Lines title="What would make the next one faster" lines={run.advice.faster} />
        </div>
      )}
    </section>
  );
}
