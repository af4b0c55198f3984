import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";
import { Eye, SquareTerminal } from "lucide-react";
import { api, type Invitation } from "../api/client";
import { CopyLine } from "../frame/copy";
import { State } from "../frame/state";
import { Ago, Until } from "../frame/time";
import { Loading, TroubleNote } from "../frame/trouble";

/** A workspace of somebody else, as its guest sees it. */
export function GuestPage() {
  const { name = "" } = useParams();
  const list = useQuery({ queryKey: ["invitations"], queryFn: api.invitations, refetchInterval: 10_000 });
  if (list.isPending) return <Loading what={name} />;
  const invitation = list.data?.find((i) => i.name === name);
  if (!list.data) return <TroubleNote error={list.error} />;
  if (!invitation)
    return (
      <div className="py-16 text-center">
        <title>{`${name} – Domicile`}</title>
        <h1 className="text-2xl font-semibold">You are not invited there, or no more</h1>
        <p className="quiet mt-2">Whoever owns the workspace can invite you.</p>
        <Link to="/" className="btn mt-6">
          To your workspaces
        </Link>
      </div>
    );
  return (
    <div className="grid gap-8 lg:grid-cols-[20rem_minmax(0,1fr)]">
      <title>{`${invitation.workspace} of ${invitation.owner} – Domicile`}</title>
      <Door invitation={invitation} />
      <Terminals invitation={invitation} />
    </div>
  );
}

function Door({ invitation: i }: { invitation: Invitation }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const leave = useMutation({
    mutationFn: () => api.leaveInvitation(i.name),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["invitations"] });
      await navigate("/");
    },
  });
  return (
    <div className="flex flex-col gap-4 lg:self-start">
      <div className="plate px-5 py-4">
        <h1 className="text-2xl font-semibold break-words">{i.workspace}</h1>
        <p className="quiet text-sm">of {i.owner}</p>
        <div className="mt-1" aria-live="polite">
          <State state={i.state} />
        </div>
        <p className="mt-2 text-sm">
          You are a guest and may {i.may}, <Until at={i.until} />.
        </p>
        {i.state !== "ready" && <p className="mt-2 text-sm">Only {i.owner} can start it.</p>}
        {i.state === "ready" && i.may === "type" && (
          <section aria-label="Ways in" className="mt-3 flex flex-col gap-3">
            <Link to={`/workspaces/${i.name}/terminal?terminal=guest`} className="btn btn-primary">
              <SquareTerminal size={18} aria-hidden /> Open a terminal
            </Link>
            <CopyLine label="SSH" text={`ssh -p ${i.port} ${i.name}@${i.host}`} />
            <CopyLine label="Terminal from the command line" text={`domicile shell ${i.name}`} />
          </section>
        )}
      </div>
      <div>
        <button type="button" className="btn" onClick={() => leave.mutate()} disabled={leave.isPending}>
          Give the invitation back
        </button>
        <TroubleNote error={leave.error} />
      </div>
    </div>
  );
}

function Terminals({ invitation: i }: { invitation: Invitation }) {
  const open = useQuery({ queryKey: ["guest", i.name, "terminals"], queryFn: () => api.terminals(i.name), enabled: i.state === "ready", refetchInterval: 3_000 });
  return (
    <section aria-labelledby="terminals" className="min-w-0">
      <h2 id="terminals" className="mb-2 text-lg font-semibold">
        Terminals that are open
      </h2>
      {open.data?.length === 0 && <p className="quiet">None yet. One that {i.owner} opens appears here by itself.</p>}
      {i.state !== "ready" && <p className="quiet">None: the workspace does not run.</p>}
      <ul>
        {i.state === "ready" &&
          open.data?.map((t) => (
            <li key={t.name} className="inked flex flex-wrap items-center gap-x-4 gap-y-1 border-b py-2">
              <span className="font-semibold">{t.name}</span>
              <code className="min-w-0 flex-1 truncate font-mono text-sm" title={t.command}>
                {t.command}
              </code>
              <span className="quiet text-sm">
                <Ago at={t.started} />
              </span>
              <Link to={`/workspaces/${i.name}/terminal?terminal=${encodeURIComponent(t.name)}&look=true`} className="btn btn-sm" aria-label={`Look at the terminal ${t.name}`}>
                <Eye size={16} aria-hidden /> Look
              </Link>
              {i.may === "type" && (
                <Link to={`/workspaces/${i.name}/terminal?terminal=${encodeURIComponent(t.name)}`} className="btn btn-sm" aria-label={`Type in the terminal ${t.name}`}>
                  Type too
                </Link>
              )}
            </li>
          ))}
      </ul>
      <TroubleNote error={open.error} />
    </section>
  );
}
