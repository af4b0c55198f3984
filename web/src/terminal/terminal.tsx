import "@xterm/xterm/css/xterm.css";
import { useEffect, useRef, useState } from "react";
import { Link, useLocation, useNavigate, useParams, useSearchParams } from "react-router";
import { FitAddon } from "@xterm/addon-fit";
import { Terminal, type ITheme } from "@xterm/xterm";
import { proofQuery } from "../api/proof";

type Status = { word: string; over?: boolean };

/** A terminal in a workspace. What runs in it goes on when the page is closed, and is there again when it is opened. */
export default function TerminalPage() {
  const { name = "" } = useParams();
  const [search] = useSearchParams();
  const terminal = search.get("terminal") ?? "console";
  const looks = search.get("look") === "true";
  const box = useRef<HTMLDivElement>(null);
  const [status, setStatus] = useState<Status>({ word: "connecting" });
  const [attempt, setAttempt] = useState(0);
  // What a task types, once. It comes from a page of the console only: an address cannot carry it.
  const place = useLocation();
  const typed = useRef((place.state as { typed?: string } | null)?.typed);
  const navigate = useNavigate();
  useEffect(() => {
    if (!box.current) return;
    const text = typed.current;
    if (looks) return watch(box.current, name, terminal, setStatus);
    return attach(box.current, name, terminal, setStatus, () => {
      typed.current = undefined;
      if (text) void navigate({ search: place.search }, { replace: true, state: null }); // a reload does not run it again
      return text;
    });
  }, [name, terminal, looks, attempt, navigate, place.search]);
  return (
    <div className="flex h-[calc(100vh-9rem)] min-h-80 flex-col gap-2">
      <div className="flex flex-wrap items-baseline gap-4">
        <title>{`${name}, terminal ${terminal} – Domicile`}</title>
        <h1 className="text-xl font-semibold">
          <Link to={name.includes("~") ? `/guest/${name}` : `/workspaces/${name}`} className="hover:underline">
            {name}
          </Link>
        </h1>
        <span className="quiet" aria-live="polite" data-terminal-status={status.word}>
          terminal {terminal}, {looks && "you only look, "}
          {status.word}
        </span>
        {status.over && (
          <button type="button" className="btn btn-sm" onClick={() => setAttempt(attempt + 1)}>
            Open it again
          </button>
        )}
      </div>
      <div ref={box} className="min-h-0 flex-1 overflow-auto border border-base-content bg-base-200 p-2" />
    </div>
  );
}

/** The theme's colours in the places where programs expect the sixteen of a terminal. */
function palette(): ITheme {
  const style = getComputedStyle(document.documentElement);
  const c = (name: string) => style.getPropertyValue(`--color-${name}`).trim();
  const eight = { black: c("neutral"), red: c("error"), green: c("success"), yellow: c("warning"), blue: c("info"), magenta: c("primary"), cyan: c("info"), white: c("base-content") };
  const bright = { brightBlack: c("secondary"), brightRed: c("error"), brightGreen: c("success"), brightYellow: c("warning"), brightBlue: c("info"), brightMagenta: c("primary"), brightCyan: c("info"), brightWhite: c("base-content") };
  return { ...eight, ...bright, background: c("base-200"), foreground: c("base-content"), cursor: c("primary"), cursorAccent: c("base-200"), selectionBackground: c("base-300") };
}

const drawn = (): Terminal =>
  new Terminal({
    fontFamily: '"IBM Plex Mono", monospace',
    fontSize: 14,
    cursorBlink: false,
    screenReaderMode: true,
    scrollback: 5000,
    minimumContrastRatio: 4.5, // programs choose their colours for a black screen
    theme: palette(),
  });

const streamOf = (name: string, query: string): WebSocket => {
  const scheme = location.protocol === "https:" ? "wss" : "ws";
  const socket = new WebSocket(`${scheme}://${location.host}/api/v1/workspaces/${encodeURIComponent(name)}/terminal?${query}&${proofQuery()}`);
  socket.binaryType = "arraybuffer";
  return socket;
};

/** Shows what a terminal prints, in the size that it has there. Nothing is typed. */
function watch(box: HTMLElement, name: string, terminal: string, setStatus: (s: Status) => void): () => void {
  const term = drawn();
  term.options.disableStdin = true;
  term.open(box);
  let gone = false;
  let over = false;
  const socket = streamOf(name, `look=true&terminal=${encodeURIComponent(terminal)}`);
  socket.onopen = () => setStatus({ word: "connected" });
  socket.onmessage = (e: MessageEvent<ArrayBuffer | string>) => {
    if (typeof e.data !== "string") return term.write(new Uint8Array(e.data));
    const told = JSON.parse(e.data) as { exit?: number; columns?: number; rows?: number };
    if (told.columns && told.rows) return term.resize(told.columns, told.rows);
    over = true;
    setStatus({ word: `ended with status ${told.exit}` });
  };
  socket.onclose = () => !gone && !over && setStatus({ word: "it is not shown any more", over: true });
  return () => {
    gone = true;
    socket.close();
    term.dispose();
  };
}

function attach(box: HTMLElement, name: string, terminal: string, setStatus: (s: Status) => void, firstWords: () => string | undefined): () => void {
  const term = drawn();
  const fit = new FitAddon();
  term.loadAddon(fit);
  term.open(box);
  fit.fit();
  term.focus();
  let gone = false;
  let socket: WebSocket;
  let timer: ReturnType<typeof setTimeout> | undefined;
  const bytes = new TextEncoder();
  const connect = () => {
    socket = streamOf(name, `terminal=${encodeURIComponent(terminal)}&columns=${term.cols}&rows=${term.rows}`);
    let exited = false;
    socket.onopen = () => {
      term.reset(); // what it printed comes again
      setStatus({ word: "connected" });
      const text = firstWords();
      if (text) socket.send(bytes.encode(text + "\n"));
    };
    socket.onmessage = (e: MessageEvent<ArrayBuffer | string>) => {
      if (typeof e.data !== "string") return term.write(new Uint8Array(e.data));
      exited = true;
      setStatus({ word: `ended with status ${(JSON.parse(e.data) as { exit: number }).exit}`, over: true });
    };
    socket.onclose = () => {
      if (gone || exited) return;
      setStatus({ word: "connection lost, coming back" });
      timer = setTimeout(connect, 1000);
    };
  };
  connect();
  const typed = term.onData((data) => socket.readyState === WebSocket.OPEN && socket.send(bytes.encode(data)));
  const sized = term.onResize(({ cols, rows }) => socket.readyState === WebSocket.OPEN && socket.send(JSON.stringify({ columns: cols, rows })));
  const watch = new ResizeObserver(() => fit.fit());
  watch.observe(box);
  return () => {
    gone = true;
    clearTimeout(timer);
    watch.disconnect();
    typed.dispose();
    sized.dispose();
    socket.close();
    term.dispose();
  };
}
