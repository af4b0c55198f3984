import { useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { Check, Play, RotateCw, X } from "lucide-react";
import { api, type Workspace } from "../api/client";
import { AsCommand } from "../frame/copy";
import { Ago } from "../frame/time";
import { TroubleNote } from "../frame/trouble";

/** What the definition says must hold, with its proof. */
export function Checks({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const prove = useMutation({ mutationFn: () => api.prove(w.name), onSuccess: () => queries.invalidateQueries({ queryKey: ["workspace", w.name] }) });
  const first = w.checks?.[0];
  if (!w.checks || !first) return null;
  const failed = w.checks.filter((c) => !c.ok).length;
  return (
    <section aria-labelledby="checks" className="mt-8">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-x-4">
        <h2 id="checks" className="text-lg font-semibold">
          Checks, {failed ? `${failed} of ${w.checks.length} do not hold` : "all hold"}
        </h2>
        <span className="quiet flex items-baseline gap-3 text-sm">
          <Ago at={first.at} />
          {w.state === "ready" && (
            <button type="button" className="btn btn-sm" onClick={() => prove.mutate()} disabled={prove.isPending}>
              {prove.isPending ? "Proving …" : "Prove again"}
            </button>
          )}
        </span>
      </div>
      <ul>
        {w.checks.map((c) => (
          <li key={c.name} className="inked flex gap-3 border-b py-1">
            {c.ok ? <Check size={18} className="mt-1 shrink-0" aria-hidden /> : <X size={18} className="mt-1 shrink-0 text-error" aria-hidden />}
            <span className="min-w-0">
              <span className="font-semibold">{c.name}</span> {c.ok ? "holds" : "does not hold"}
              <span className="quiet block text-sm break-words">
                expected {c.expected}; found {c.found || "nothing"}
                {c.from && `; should come from ${c.from}`}
              </span>
            </span>
          </li>
        ))}
      </ul>
      <AsCommand>{`domicile checks ${w.name}`}</AsCommand>
      <TroubleNote error={prove.error} />
    </section>
  );
}

/** The team's named commands. Each runs in a terminal of its own. */
export function Tasks({ workspace: w }: { workspace: Workspace }) {
  const navigate = useNavigate();
  if (!w.tasks?.length || w.state !== "ready") return null;
  return (
    <section aria-labelledby="tasks" className="mt-8">
      <h2 id="tasks" className="mb-2 text-lg font-semibold">
        Tasks
      </h2>
      <ul>
        {w.tasks.map((t) => (
          <li key={t.name} className="inked flex items-center gap-3 border-b py-1">
            <button type="button" className="btn btn-sm" onClick={() => navigate(`/workspaces/${w.name}/terminal?terminal=task`, { state: { typed: t.script } })} aria-label={`Run ${t.name}`}>
              <Play size={16} aria-hidden /> {t.name}
            </button>
            <span className="min-w-0 text-sm">
              {t.description}
              <code className="quiet block font-mono break-words">
                {t.command}
                {t.after?.length ? ` (after ${t.after.join(", ")})` : ""}
              </code>
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The services beside the workspace: their state, what they print, and a way to restart one. */
export function Services({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const [open, setOpen] = useState<string>();
  const key = ["workspace", w.name, "services"];
  const list = useQuery({ queryKey: key, queryFn: () => api.services(w.name), enabled: Boolean(w.services?.length), refetchInterval: 5000 });
  const log = useQuery({ queryKey: [...key, open], queryFn: () => api.serviceLog(w.name, open ?? ""), enabled: Boolean(open), refetchInterval: 3000 });
  const restart = useMutation({ mutationFn: (s: string) => api.restartService(w.name, s), onSuccess: () => queries.invalidateQueries({ queryKey: key }) });
  if (!w.services?.length) return null;
  return (
    <section aria-labelledby="services" className="mt-8">
      <h2 id="services" className="mb-2 text-lg font-semibold">
        Services
      </h2>
      <ul>
        {list.data?.map((s) => (
          <li key={s.name} className="inked border-b py-1">
            <div className="flex flex-wrap items-center gap-3">
              <span className="font-semibold">{s.name}</span>
              <span>{s.running ? ["running", s.health].filter(Boolean).join(", ") : s.exitCode === undefined ? "stopped" : `ended with exit status ${s.exitCode}`}</span>
              <span className="quiet text-sm break-all">{s.image}</span>
              <span className="ml-auto flex gap-2">
                <button type="button" className="btn btn-ghost btn-sm" aria-expanded={open === s.name} onClick={() => setOpen(open === s.name ? undefined : s.name)}>
                  Log
                </button>
                <button type="button" className="btn btn-ghost btn-sm" onClick={() => restart.mutate(s.name)} disabled={restart.isPending} aria-label={`Restart ${s.name}`}>
                  <RotateCw size={16} aria-hidden /> Restart
                </button>
              </span>
            </div>
            {open === s.name && (
              <pre className="mt-1 max-h-64 overflow-auto bg-base-200 p-2 text-sm" tabIndex={0} aria-label={`What ${s.name} printed`}>
                {log.data?.text || "It printed nothing yet."}
              </pre>
            )}
          </li>
        ))}
      </ul>
      <AsCommand>{`domicile services ${w.name}`}</AsCommand>
      <TroubleNote error={list.error ?? log.error ?? restart.error} />
    </section>
  );
}
