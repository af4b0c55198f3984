import { useMemo, useState } from "react";
import type { LogLine, Run, Step } from "../api/client";
import { seconds, useProgressTime } from "../frame/time";
import { bars, type Bar } from "./scale";
import { LogLines } from "./log";
import { useRunLog } from "./runlog";

const tone: Record<Step["state"], string> = {
  waiting: "",
  running: "bg-info at-work",
  done: "bg-base-content",
  skipped: "border border-base-content",
  failed: "bg-error",
};

const none: LogLine[] = [];

/** A run's steps as bars to scale, each with its time and, opened, its log. */
export function Timeline({ run }: { run: Run }) {
  const now = useProgressTime(run.state === "running");
  const log = useRunLog(run.id);
  // Grouped only when lines come: the bars move five times a second, and the lines stay.
  const linesOf = useMemo(() => {
    const groups = new Map<number, LogLine[]>();
    for (const l of log) {
      const group = groups.get(l.step);
      if (group) group.push(l);
      else groups.set(l.step, [l]);
    }
    return groups;
  }, [log]);
  const scale = bars(run, now);
  // What goes on and what failed stands open unless it was shut by hand.
  const [toggled, setToggled] = useState<Record<number, boolean>>({});
  return (
    <ol className="inked border-t">
      {run.steps.map((s, i) => {
        const lines = linesOf.get(s.position) ?? none;
        const open = toggled[s.position] ?? (s.state === "failed" || (s.state === "running" && lines.length > 0));
        return (
          <li key={s.position} className="inked border-b" data-step={s.name} data-step-state={s.state}>
            <Row step={s} bar={scale[i] ?? { left: 0, width: 0, millis: 0 }} open={open} lines={lines.length} onToggle={() => setToggled({ ...toggled, [s.position]: !open })} />
            {s.reason && <p className={`px-2 pb-2 text-sm break-words ${s.state === "failed" ? "text-error" : "quiet"}`}>{s.reason}</p>}
            {open && lines.length > 0 && <LogLines lines={lines} follow={s.state === "running"} />}
          </li>
        );
      })}
    </ol>
  );
}

function Row({ step: s, bar, open, lines, onToggle }: { step: Step; bar: Bar; open: boolean; lines: number; onToggle: () => void }) {
  return (
    <button type="button" className="grid w-full cursor-pointer grid-cols-[minmax(0,17rem)_4.5rem_minmax(0,1fr)_5rem] items-center gap-3 px-1 py-1 text-left hover:bg-base-200 max-sm:grid-cols-[minmax(0,1fr)_4.5rem_5rem]" onClick={onToggle} aria-expanded={open} disabled={lines === 0}>
      <span className={`truncate ${s.state === "waiting" ? "quiet" : ""}`} title={s.title}>
        {s.title}
      </span>
      <span className={`text-sm ${s.state === "failed" ? "text-error" : "quiet"}`}>
        {s.state}
        {s.attempts > 1 && s.state === "running" && ` (${s.attempts})`}
      </span>
      <span className="relative block h-3 max-sm:hidden" aria-hidden>
        {s.started && <span className={`absolute top-0 h-3 ${tone[s.state]}`} style={{ left: `${bar.left}%`, width: `${bar.width}%`, minWidth: "2px" }} />}
        {bar.mark !== undefined && <span className="absolute -top-0.5 h-4 border-l-2 border-primary" style={{ left: `${bar.mark}%` }} title={`last time ${seconds(s.lastMillis ?? 0)}`} />}
      </span>
      <span className="figures text-right text-sm">{s.started ? seconds(bar.millis) : ""}</span>
    </button>
  );
}
