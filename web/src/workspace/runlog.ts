import { useEffect, useRef, useState } from "react";
import { api, type LogLine } from "../api/client";
import { onLog } from "../api/events";

/** The lines of a run, read to the end and then as they come. */
export function useRunLog(run: number): LogLine[] {
  const [lines, setLines] = useState<LogLine[]>([]);
  const reading = useRef(false);
  useEffect(() => {
    let live = true;
    let after = 0;
    let more = false;
    const read = async () => {
      more = true;
      if (reading.current) return;
      reading.current = true;
      try {
        while (more && live) {
          more = false;
          const next = (await api.log(run, after)).lines;
          const last = next.at(-1);
          if (last && live) {
            after = last.number;
            more = true;
            setLines((old) => [...old, ...next]);
          }
        }
      } catch {
        // The next event, or the stream's return, makes it look again.
      } finally {
        reading.current = false;
      }
    };
    setLines([]);
    void read();
    const stop = onLog((changed) => {
      if (changed === run || changed === 0) void read();
    });
    return () => {
      live = false;
      reading.current = false;
      stop();
    };
  }, [run]);
  return lines;
}
