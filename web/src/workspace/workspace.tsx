import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, Trouble } from "../api/client";
import { Loading, TroubleNote } from "../frame/trouble";
import { Doorway } from "./doorway";
import { Story } from "./story";

export function WorkspacePage() {
  const { name = "" } = useParams();
  const workspace = useQuery({ queryKey: ["workspace", name], queryFn: () => api.workspace(name) });
  if (workspace.isPending) return <Loading what={name} />;
  if (workspace.error instanceof Trouble && workspace.error.status === 404) {
    return (
      <div className="py-16 text-center">
        <title>{`${name} – Domicile`}</title>
        <h1 className="text-2xl font-semibold">You have no workspace {name}</h1>
        <p className="quiet mt-2">It may have been removed a moment ago.</p>
        <Link to="/" className="btn mt-6">
          To your workspaces
        </Link>
      </div>
    );
  }
  if (!workspace.data) return <TroubleNote error={workspace.error} />;
  return (
    <div className="grid gap-8 lg:grid-cols-[20rem_minmax(0,1fr)]">
      <title>{`${name}, ${workspace.data.state} – Domicile`}</title>
      <Doorway workspace={workspace.data} />
      <Story workspace={workspace.data} />
    </div>
  );
}
