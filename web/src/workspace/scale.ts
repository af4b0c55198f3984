import type { Run, Step } from "../api/client";

export type Bar = { left: number; width: number; mark?: number; millis: number };

/** How long a step has taken until now. */
export function millisOf(s: Step, now: number): number {
  if (!s.started) return 0;
  return Math.max(0, (s.ended ? Date.parse(s.ended) : now) - Date.parse(s.started));
}

/**
 * The bars of a run's steps in percent of its whole time, drawn to scale. The mark is
 * where the step would end if it took as long as the last time.
 */
export function bars(run: Run, now: number): Bar[] {
  const begun = run.steps.flatMap((s) => (s.started ? [Date.parse(s.started)] : []));
  const start = Math.min(...begun, now);
  const ends = run.steps.flatMap((s) => {
    if (!s.started) return [];
    const last = s.state === "running" && s.lastMillis ? Date.parse(s.started) + s.lastMillis : 0;
    return [Date.parse(s.started) + millisOf(s, now), last];
  });
  const whole = Math.max(1, Math.max(start, ...ends) - start);
  return run.steps.map((s) => {
    const millis = millisOf(s, now);
    if (!s.started) return { left: 0, width: 0, millis };
    const left = (100 * (Date.parse(s.started) - start)) / whole;
    const mark = s.lastMillis ? left + (100 * s.lastMillis) / whole : undefined;
    return { left, width: (100 * millis) / whole, mark: mark !== undefined && mark <= 100 ? mark : undefined, millis };
  });
}
