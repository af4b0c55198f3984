import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { api, type ClientProgram } from "../api/client";
import { CopyLine } from "../frame/copy";
import { amount } from "../frame/amount";
import { Loading, TroubleNote } from "../frame/trouble";
import { installLines, systemName, visitor, type System } from "./lines";

/** The command line for the visitor's own machine. Anybody may see it: it comes before an account. */
export function Clients() {
  const list = useQuery({ queryKey: ["clients"], queryFn: api.clients });
  const here = visitor(navigator.userAgent);
  const [system, setSystem] = useState<System>(here.system);
  if (list.isPending) return <Loading what="the programs" />;
  const programs = list.data ?? [];
  const systems = [...new Set(programs.map((p) => p.system))];
  const shown = programs.filter((p) => p.system === system);
  return (
    <div className="max-w-3xl">
      <title>The command line – Domicile</title>
      <h1 className="text-3xl font-semibold">The command line</h1>
      <p className="quiet mt-2">One program: it makes workspaces, opens a terminal in them, and its usher keeps their addresses and ports at your own machine. It needs no rights of an administrator.</p>
      <TroubleNote error={list.error} />
      {!list.error && programs.length === 0 && <p className="mt-6">This service has no programs to give: whoever looks after it makes them with scripts/clients.</p>}
      {systems.length > 0 && (
        <div className="mt-6 flex flex-wrap gap-2" role="group" aria-label="Your system">
          {systems.map((s) => (
            <button key={s} type="button" className={`btn ${s === system ? "btn-primary" : ""}`} aria-pressed={s === system} onClick={() => setSystem(s)}>
              {systemName[s]}
            </button>
          ))}
        </div>
      )}
      {[...shown].sort((a, b) => Number(b.architecture === here.architecture) - Number(a.architecture === here.architecture)).map((p) => (
        <Program key={p.file} program={p} />
      ))}
      {shown.length > 0 && (
        <p className="mt-6">
          Then sign in: <code className="font-mono">domicile login -server {location.origin}</code>
        </p>
      )}
    </div>
  );
}

const chips = { amd64: "Intel or AMD, 64 bits", arm64: "ARM, 64 bits" };

function Program({ program: p }: { program: ClientProgram }) {
  const lines = installLines(p, location.origin);
  return (
    <section className="plate mt-4 p-6" aria-label={`${systemName[p.system]}, ${chips[p.architecture]}`}>
      <div className="flex flex-wrap items-center justify-between gap-4">
        <h2 className="text-xl font-semibold">{p.system === "macos" && p.architecture === "arm64" ? "Apple's own chips" : chips[p.architecture]}</h2>
        <a className="btn btn-sm" href={`/clients/${p.file}`} download>
          <Download size={16} aria-hidden /> {p.file}, {amount(p.bytes)}
        </a>
      </div>
      <div className="mt-4 flex flex-col gap-3">
        <CopyLine label={p.system === "windows" ? "Install it, in PowerShell" : "Install it, in a terminal"} text={lines.install} />
        <CopyLine label="Its digest (SHA-256), which that line checks" text={p.sha256} />
      </div>
    </section>
  );
}
