import { useEffect } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { proofQuery } from "./proof";

type Listener = (run: number) => void;
const logListeners = new Set<Listener>();

/** Calls back when lines were added to a run's log, and when it is not known what was missed. */
export function onLog(listener: Listener): () => void {
  logListeners.add(listener);
  return () => logListeners.delete(listener);
}

const tellAll = (run: number) => logListeners.forEach((l) => l(run));

/**
 * Keeps what is shown in step with the service while the page can be seen. A page that
 * is hidden holds no stream: a browser allows few to one host, and many tabs may be open.
 */
export function useEvents() {
  const queries = useQueryClient();
  useEffect(() => {
    let source: EventSource | undefined;
    const again = (workspace?: string) => {
      void queries.invalidateQueries({ queryKey: ["workspaces"] });
      void queries.invalidateQueries({ queryKey: ["invitations"] });
      void queries.invalidateQueries({ queryKey: workspace ? ["workspace", workspace] : ["workspace"] });
    };
    const close = () => {
      source?.close();
      source = undefined;
    };
    const open = () => {
      source ??= listen(again, (workspace) => void queries.invalidateQueries({ queryKey: ["workspace", workspace, "ports"] }));
    };
    const seen = () => (document.visibilityState === "visible" ? open() : close());
    seen();
    document.addEventListener("visibilitychange", seen);
    addEventListener("pagehide", close);
    addEventListener("pageshow", seen);
    return () => {
      close();
      document.removeEventListener("visibilitychange", seen);
      removeEventListener("pagehide", close);
      removeEventListener("pageshow", seen);
    };
  }, [queries]);
}

/** Opens the stream; its first event makes the page look at everything again. */
function listen(again: (workspace?: string) => void, listens: (workspace: string) => void): EventSource {
  const source = new EventSource(`/api/v1/events?ports=true&${proofQuery()}`);
  source.addEventListener("ports", (e: MessageEvent<string>) => listens((JSON.parse(e.data) as { workspace: string }).workspace));
  const changed = (e: MessageEvent<string>) => again((JSON.parse(e.data) as { workspace: string }).workspace);
  source.addEventListener("workspace", changed);
  source.addEventListener("run", changed);
  source.addEventListener("step", changed);
  source.addEventListener("guests", changed);
  source.addEventListener("log", (e: MessageEvent<string>) => tellAll((JSON.parse(e.data) as { run: number }).run));
  source.addEventListener("look", () => {
    again();
    tellAll(0);
  });
  return source;
}
