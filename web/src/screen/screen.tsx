import { useEffect, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { Camera } from "lucide-react";
import RFB from "@novnc/novnc";
import { AsCommand } from "../frame/copy";

/** The screen of a workspace. Keys and the pointer go to it while it has the focus. */
export default function ScreenPage() {
  const { name = "" } = useParams();
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
        <a className="btn btn-sm ml-auto" href={`/api/v1/workspaces/${encodeURIComponent(name)}/screen.png`} download={`${name}.png`}>
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
    const shown = new RFB(box, `${scheme}://${location.host}/api/v1/workspaces/${encodeURIComponent(name)}/screen`, { shared: true });
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
