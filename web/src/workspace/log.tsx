import { memo, useEffect, useRef } from "react";
import type { LogLine } from "../api/client";

/** How many lines are drawn; the earlier ones are a click away in the command line. */
const drawn = 1000;

/** Lines of a log, at their end while they follow. */
export const LogLines = memo(function LogLines({ lines, follow }: { lines: LogLine[]; follow: boolean }) {
  const box = useRef<HTMLDivElement>(null);
  const atEnd = useRef(true);
  useEffect(() => {
    const b = box.current;
    if (b && follow && atEnd.current) b.scrollTop = b.scrollHeight;
  }, [lines.length, follow]);
  const scrolled = () => {
    const b = box.current;
    if (b) atEnd.current = b.scrollHeight - b.scrollTop - b.clientHeight < 24;
  };
  const shown = lines.slice(-drawn);
  return (
    <div ref={box} onScroll={scrolled} tabIndex={0} role="log" aria-label="Log" className="mb-2 max-h-80 overflow-auto bg-base-200 px-3 py-2 font-mono text-sm">
      {lines.length > drawn && <p className="quiet">… {lines.length - drawn} earlier lines</p>}
      {shown.map((l) => (
        <div key={l.number} className="break-words whitespace-pre-wrap" title={new Date(l.at).toLocaleTimeString()}>
          {l.text || "\u00a0"}
        </div>
      ))}
    </div>
  );
});
