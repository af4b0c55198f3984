import { useEffect, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { useQuery } from "@tanstack/react-query";
import { Camera } from "lucide-react";
import RFB from "@novnc/novnc";
import { api } from "../api/client";
import { proofQuery } from "../api/proof";
import { AsCommand } from "../frame/copy";
import { Loading, TroubleNote } from "../frame/trouble";

/** The screen of a workspace, or why there is none to see. */
export default function ScreenPage() {
  const { name = "" } = useParams();
  const workspace = useQuery({ queryKey: ["workspace", name], queryFn: () => api.workspace(name) });
  if (workspace.isPending) return <Loading what={name} />;
  if (!workspace.data) return <TroubleNote error={workspace.error} />;
  if (workspace.data.screen && workspace.data.state === "ready") return <Shown name={name} />;
  return (
    <div className="py-16 text-center">
      <title>{`${name}, screen – Domicile`}</title>
      <h1 className="text-2xl font-semibold">
        {workspace.data.screen ? `${name} is ${workspace.data.state}` : `${name} has no screen`}
      </h1>
      <p className="quiet mt-2">{workspace.data.screen ? "Its screen is seen while it runs." : 'Its definition asks for none: customizations.domicile.screen, such as "1280x800".'}</p>
      <Link to={`/workspaces/${name}`} className="btn mt-6">
        To {name}
      </Link>
    </div>
  );
}

/** Keys and the pointer go to the screen while it has the focus. */
function Shown({ name }: { name: string }) {
  const box = useRef<HTMLDivElement>(null);
  const [word, setWord] = useState("connecting");
  useEffect(() => {
    if (!box.current) return;
    return watch(box.current, name, setWord);
  }, [name]);
  return (
    <div className="flex h-[calc(100vh-9rem)] min-h-80 flex-col gap-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <title>{`${name}, screen – Domicile`}</title>
        <h1 className="text-xl font-semibold">
          <Link to={`/workspaces/${name}`} className="hover:underline">
            {name}
          </Link>
        </h1>
        <span className="quiet" aria-live="polite" data-screen-status={word}>
          screen, {word}
        </span>
        <a className="btn btn-sm ml-auto" href={`/api/v1/workspaces/${encodeURIComponent(name)}/screen.png?${proofQuery()}`} download={`${name}.png`}>
          <Camera size={16} aria-hidden /> Take a picture
        </a>
      </div>
      <div ref={box} className="min-h-0 flex-1 overflow-hidden border border-base-content bg-base-300" role="group" aria-label={`The screen of ${name}`} />
      <AsCommand>{`domicile screen ${name} -png FILE`}</AsCommand>
    </div>
  );
}

/** Shows the screen in a box, and comes back to it when the connection is lost. */
function watch(box: HTMLElement, name: string, setWord: (word: string) => void): () => void {
  let gone = false;
  let viewer: RFB | undefined;
  let timer: ReturnType<typeof setTimeout> | undefined;
  const connect = () => {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    const shown = new RFB(box, `${scheme}://${location.host}/api/v1/workspaces/${encodeURIComponent(name)}/screen?${proofQuery()}`, { shared: true });
    viewer = shown;
    shown.scaleViewport = true;
    shown.background = "transparent";
    shown.addEventListener("connect", () => {
      setWord("connected");
      shown.focus();
    });
    shown.addEventListener("disconnect", () => {
      if (gone) return;
      setWord("connection lost, coming back");
      timer = setTimeout(connect, 1000);
    });
  };
  connect();
  return () => {
    gone = true;
    clearTimeout(timer);
    viewer?.disconnect();
  };
}
