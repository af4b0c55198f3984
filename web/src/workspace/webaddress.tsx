import { useRef, useState } from "react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ExternalLink } from "lucide-react";
import { api, type WebAddress } from "../api/client";
import { AsCommand, CopyLine } from "../frame/copy";
import { Ago } from "../frame/time";
import { TroubleNote } from "../frame/trouble";

/** Opens a port in a tab of its own, at its web address. The tab knows nothing of this one. */
export function OpenPort({ workspace, port, address }: { workspace: string; port: string; address?: WebAddress }) {
  const queries = useQueryClient();
  const open = useMutation({
    mutationFn: (tab: Window | null) =>
      api.openWeb(workspace, port).then(
        (entry) => {
          if (tab) tab.location.replace(entry.url);
          else location.assign(entry.url);
        },
        (error: unknown) => {
          tab?.close();
          throw error;
        },
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["workspace", workspace, "web"] }),
  });
  const begin = () => {
    const tab = window.open("about:blank"); // at the click itself, or a browser takes it for an intruder
    if (tab) tab.opener = null;
    open.mutate(tab);
  };
  return (
    <div className="mt-1 flex flex-wrap items-center gap-2">
      <button type="button" className="btn btn-sm" onClick={begin} disabled={open.isPending} aria-label={`Open port ${port}`}>
        <ExternalLink size={16} aria-hidden /> Open
      </button>
      <Share workspace={workspace} port={port} address={address} />
      <TroubleNote error={open.error} />
    </div>
  );
}

/** Who may use an address, in words. */
export function sharedWith(a?: WebAddress): string {
  if (!a) return "no web address yet";
  if (a.sharing === "team") return "for the team";
  if (a.sharing === "link") return a.password ? "by a link with a password" : "by a link";
  return "for you alone";
}

/** Who may open a port, and how that is changed. */
function Share({ workspace, port, address }: { workspace: string; port: string; address?: WebAddress }) {
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [sharing, setSharing] = useState<WebAddress["sharing"]>("private");
  const [hours, setHours] = useState(24);
  const [password, setPassword] = useState("");
  const share = useMutation({
    mutationFn: () => api.shareWeb(workspace, port, sharing === "link" ? { sharing, hours, password: password || undefined } : { sharing }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["workspace", workspace, "web"] }),
  });
  const show = () => {
    setSharing(address?.sharing ?? "private");
    share.reset();
    dialog.current?.showModal();
  };
  const name = `share-${port}`;
  const choice = (value: WebAddress["sharing"], words: string) => (
    <label className="flex items-center gap-2 py-1">
      <input type="radio" className="radio radio-sm" name={name} checked={sharing === value} onChange={() => setSharing(value)} /> {words}
    </label>
  );
  return (
    <>
      <button type="button" className="link text-sm" onClick={show} aria-label={`Port ${port} is ${sharedWith(address)}: change who may open it`}>
        {sharedWith(address)}
      </button>
      <dialog ref={dialog} className="modal" aria-label={`Who may open port ${port}?`}>
        <div className="modal-box plate">
          <h3 className="text-xl font-semibold">Who may open port {port}?</h3>
          <fieldset className="mt-3">
            <legend className="sr-only">Who may open it</legend>
            {choice("private", "You alone")}
            {choice("team", "The team: whoever has an account here")}
            {choice("link", "Whoever has a link, for a time")}
          </fieldset>
          {sharing === "link" && (
            <div className="mt-2 flex flex-wrap gap-4">
              <label className="text-sm">
                Hours <input type="number" min={1} max={2160} className="input input-sm w-24" value={hours} onChange={(e) => setHours(Number(e.target.value))} />
              </label>
              <label className="text-sm">
                Password, if you like <input className="input input-sm" autoComplete="off" value={password} onChange={(e) => setPassword(e.target.value)} />
              </label>
            </div>
          )}
          {share.data?.link && (
            <div className="mt-3">
              <CopyLine label="The link, which is shown only now" text={share.data.link} />
            </div>
          )}
          <TroubleNote error={share.error} />
          <div className="mt-6 flex justify-end gap-2">
            <button type="button" className="btn" onClick={() => dialog.current?.close()}>
              {share.isSuccess ? "Close" : "Leave it"}
            </button>
            <button type="button" className="btn btn-primary" onClick={() => share.mutate()} disabled={share.isPending}>
              Change it
            </button>
          </div>
          {address && address.changes.length > 0 && (
            <ul className="quiet mt-3 text-sm">
              {address.changes.slice(0, 5).map((c) => (
                <li key={c.at}>
                  {c.by}: {c.what}, <Ago at={c.at} />
                </li>
              ))}
            </ul>
          )}
          <AsCommand>{`domicile web ${workspace} ${port} -for ${sharing}`}</AsCommand>
        </div>
      </dialog>
    </>
  );
}
