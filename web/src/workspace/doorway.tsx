import { useRef } from "react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { Monitor, SquarePen, SquareTerminal } from "lucide-react";
import { api, type Workspace } from "../api/client";
import { AsCommand, CopyLine } from "../frame/copy";
import { State } from "../frame/state";
import { Ago } from "../frame/time";
import { TroubleNote } from "../frame/trouble";
import { correcting, shortSource } from "../workspaces/plate";
import { Move } from "./move";
import { Ports } from "./ports";
import { TryWays } from "./ways";
import { Rebuild, StopsSoon } from "./upkeep";

/** The plate of one workspace with the ways in, and what can be done with it. */
export function Doorway({ workspace: w }: { workspace: Workspace }) {
  return (
    <div className="flex flex-col gap-4 lg:sticky lg:top-4 lg:self-start">
      <div className="plate px-5 py-4">
        <h1 className="text-2xl font-semibold break-words">{w.name}</h1>
        <div className="mt-1" aria-live="polite">
          <State state={w.state} />
        </div>
        {w.reason && <p className="mt-2 text-sm break-words">{w.reason}</p>}
        {w.state === "ready" && <WaysIn workspace={w} />}
      </div>
      <StopsSoon workspace={w} />
      <Actions workspace={w} />
      <Facts workspace={w} />
    </div>
  );
}

function Facts({ workspace: w }: { workspace: Workspace }) {
  const rows: [string, React.ReactNode][] = [
    ["source", shortSource(w.source)],
    ["ref", w.ref],
    ["commit", w.commit?.slice(0, 12)],
    ["definition", w.definition],
    ["set to", w.vary?.join(", ")],
    ["image", w.image],
    ["built from", w.dockerfile],
    ["site", w.site],
    ["size", w.size],
    ["costs", w.price && `${w.price.perHour} ${w.price.currency} an hour while it runs`],
    ["user", w.user],
    ["folder", w.folder],
    ["made", <Ago key="made" at={w.created} />],
  ];
  return (
    <dl aria-label="What it is" className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 text-sm">
      {rows
        .filter(([, value]) => value)
        .map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="quiet">{name}</dt>
            <dd className="wrap-anywhere">{value}</dd>
          </div>
        ))}
    </dl>
  );
}

function WaysIn({ workspace: w }: { workspace: Workspace }) {
  return (
    <section aria-labelledby="ways" className="mt-3 flex flex-col gap-3">
      <h2 id="ways" className="sr-only">
        Ways in
      </h2>
      <Link to={`/workspaces/${w.name}/terminal`} className="btn btn-primary">
        <SquareTerminal size={18} aria-hidden /> Open a terminal
      </Link>
      {w.screen && (
        <Link to={`/workspaces/${w.name}/screen`} className="btn">
          <Monitor size={18} aria-hidden /> See its screen
        </Link>
      )}
      {w.editors && (
        <p className="flex flex-wrap items-center gap-x-3 gap-y-1 text-sm">
          <SquarePen size={16} aria-hidden className="shrink-0" />
          {w.editors.map((e) => (
            <a key={e.name} className="link" href={e.url}>
              {e.name}
            </a>
          ))}
        </p>
      )}
      <Ports workspace={w} />
      {w.ssh && <CopyLine label="SSH" text={w.ssh} />}
      <CopyLine label="Terminal from the command line" text={`domicile shell ${w.name}`} />
      <TryWays workspace={w} />
    </section>
  );
}

function Actions({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const dialog = useRef<HTMLDialogElement>(null);
  const done = () => queries.invalidateQueries({ queryKey: ["workspace", w.name] });
  const start = useMutation({ mutationFn: () => api.start(w.name), onSuccess: done });
  const stop = useMutation({ mutationFn: () => api.stop(w.name), onSuccess: done });
  const again = useMutation({ mutationFn: () => api.provision({ source: w.source, ref: w.ref, name: w.name, file: w.file, size: w.size, mount: w.mount, vary: w.vary }), onSuccess: done });
  const remove = useMutation({ mutationFn: () => api.remove(w.name), onSuccess: () => navigate("/") });
  return (
    <section aria-label="What can be done" className="flex flex-col gap-2">
      <div className="flex flex-wrap gap-2">
        {w.state === "stopped" && (
          <button type="button" className="btn btn-primary" onClick={() => start.mutate()} disabled={start.isPending}>
            Start
          </button>
        )}
        {w.goesOn && (
          <button type="button" className="btn btn-primary" onClick={() => again.mutate()} disabled={again.isPending}>
            Go on from there
          </button>
        )}
        {w.goesOn === false && (
          <Link to={correcting(w)} className="btn btn-primary">
            Correct the address
          </Link>
        )}
        {w.state === "ready" && (
          <>
            <button type="button" className="btn" onClick={() => stop.mutate()} disabled={stop.isPending}>
              Stop
            </button>
            {!w.name.includes(".") && <Rebuild workspace={w} />}
          </>
        )}
        {(w.state === "ready" || w.state === "stopped" || w.state === "lost") && !w.name.includes(".") && !w.mount && <Move workspace={w} />}
        <button type="button" className="btn btn-outline btn-error" onClick={() => dialog.current?.showModal()} disabled={w.state === "removing"}>
          Remove …
        </button>
      </div>
      {w.state === "ready" && <AsCommand>{`domicile stop ${w.name}`}</AsCommand>}
      {w.state === "stopped" && <AsCommand>{`domicile start ${w.name}`}</AsCommand>}
      <TroubleNote error={start.error ?? stop.error ?? again.error ?? remove.error} />
      <dialog ref={dialog} className="modal" aria-labelledby="removing">
        <div className="modal-box plate">
          <h3 id="removing" className="text-xl font-semibold">
            Remove {w.name}?
          </h3>
          <p className="mt-2">Its container and all files in it go with it. What was not pushed is lost.</p>
          <form method="dialog" className="mt-6 flex justify-end gap-2">
            <button className="btn">Keep it</button>
            <button className="btn btn-error" onClick={() => remove.mutate()}>
              Remove it
            </button>
          </form>
          <AsCommand>{`domicile remove ${w.name}`}</AsCommand>
        </div>
      </dialog>
    </section>
  );
}
