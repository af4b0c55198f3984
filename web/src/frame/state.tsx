import type { Workspace } from "../api/client";

type Name = Workspace["state"];

/** What each state is called, and how its door stands. */
const states: Record<Name, { word: string; door: "open" | "shut" | "ajar" | "barred" | "gone"; tone: string }> = {
  ready: { word: "ready", door: "open", tone: "text-success" },
  stopped: { word: "stopped", door: "shut", tone: "quiet" },
  waiting: { word: "waiting its turn", door: "ajar", tone: "text-info" },
  making: { word: "being made", door: "ajar", tone: "text-info" },
  starting: { word: "starting", door: "ajar", tone: "text-info" },
  stopping: { word: "stopping", door: "ajar", tone: "text-info" },
  removing: { word: "being removed", door: "ajar", tone: "text-info" },
  failed: { word: "failed", door: "barred", tone: "text-error" },
  lost: { word: "out of reach", door: "gone", tone: "text-warning" },
};

/** A state as a word and a door: the word alone tells it, the door and colour support it. */
export function State({ state }: { state: Name }) {
  const s = states[state];
  return (
    <span className={`inline-flex items-center gap-2 whitespace-nowrap ${s.tone}`} data-state={state}>
      <Door door={s.door} />
      {s.word}
    </span>
  );
}

function Door({ door }: { door: (typeof states)[Name]["door"] }) {
  const arch = "M4 18V8a5 5 0 0 1 10 0v10z";
  return (
    <svg viewBox="0 0 18 20" width="18" height="20" aria-hidden="true" fill="none" stroke="currentColor" strokeWidth="1.5" className={door === "ajar" ? "at-work" : ""}>
      <path d={arch} fill={door === "open" ? "currentColor" : "none"} strokeDasharray={door === "gone" ? "2 2" : undefined} />
      {door === "ajar" && <path d="M4 18V8a5 5 0 0 1 5-5v15z" fill="currentColor" stroke="none" />}
      {door === "barred" && <path d="M2 6l14 9M16 6L2 15" />}
      {door === "shut" && <circle cx="11.2" cy="12" r="0.9" fill="currentColor" stroke="none" />}
      <path d="M1 18.5h16" />
    </svg>
  );
}

export const atWork = (state: Name) => states[state].door === "ajar";
