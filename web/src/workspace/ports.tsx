import { useQuery } from "@tanstack/react-query";
import { Ear, EarOff } from "lucide-react";
import { api, type Port, type Workspace } from "../api/client";
import { CopyLine } from "../frame/copy";
import { OpenPort } from "./webaddress";

/** The ports of a running workspace: who listens there now, and the line that brings each to one's own machine. */
export function Ports({ workspace: w }: { workspace: Workspace }) {
  const { data } = useQuery({ queryKey: ["workspace", w.name, "ports"], queryFn: () => api.ports(w.name) });
  const addresses = useQuery({ queryKey: ["workspace", w.name, "web"], queryFn: () => api.webAddresses(w.name) });
  const ports = data?.ports ?? w.ports;
  if (ports.length === 0) return null;
  return (
    <ul aria-label="Ports" className="flex flex-col gap-2">
      {ports.map((p) => (
        <li key={p.port} className="border-t border-base-300 pt-2">
          <div className="font-semibold">{portWords(p)}</div>
          <Heard port={p} />
          {(p.port.includes(":") ? p.protocol && (p.listener || !p.known) : p.listener) && <OpenPort workspace={w.name} port={p.port} address={addresses.data?.find((a) => a.port === p.port)} />}
          <details className="text-sm">
            <summary className="quiet min-h-6 cursor-pointer py-1">on your own machine</summary>
            <CopyLine label="Until Ctrl-C; domicile usher keeps all of them" text={`domicile forward ${w.name} ${p.port}`} />
          </details>
        </li>
      ))}
      {data?.more && <li className="quiet text-sm">There are more than are shown.</li>}
    </ul>
  );
}

/** Who listens at a port. */
function Heard({ port: p }: { port: Port }) {
  if (!p.known) return null;
  if (!p.listener)
    return (
      <div className="quiet flex items-center gap-1 text-sm">
        <EarOff size={14} aria-hidden /> nobody listens
      </div>
    );
  const who = [p.listener.process ?? "a program", p.listener.user && `of ${p.listener.user}`].filter(Boolean).join(" ");
  return (
    <div className="flex items-center gap-1 text-sm" title={p.listener.command}>
      <Ear size={14} aria-hidden className="shrink-0" /> <span className="min-w-0 truncate">{who} listens</span>
    </div>
  );
}

/** What a port is, and who names it where that is not the definition. */
export function portWords(p: Port): string {
  const named = p.from && p.from !== "definition" ? `, named by ${p.from === "image" ? "the image" : p.from}` : "";
  return `Port ${p.port}${p.label ? `, ${p.label}` : ""}${named}`;
}
