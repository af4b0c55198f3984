import { useSyncExternalStore } from "react";

/** A clock that all who look at it share: it ticks only while somebody does, and for all at once. */
function clock(every: number) {
  const watching = new Set<() => void>();
  let now = Date.now();
  let timer: ReturnType<typeof setInterval> | undefined;
  return {
    watch(changed: () => void) {
      if (watching.size === 0) {
        now = Date.now();
        timer = setInterval(() => {
          now = Date.now();
          for (const tell of watching) tell();
        }, every);
      }
      watching.add(changed);
      return () => {
        watching.delete(changed);
        if (watching.size === 0) clearInterval(timer);
      };
    },
    read: () => now,
  };
}

/** For times in words. */
const calm = clock(30_000);
/** For what is drawn while it goes on. */
const quick = clock(200);
const still = { watch: () => () => {}, read: () => 0 };

/** The time while something goes on; on: whether it does. */
export function useProgressTime(on: boolean): number {
  const c = on ? quick : still;
  const now = useSyncExternalStore(c.watch, c.read);
  return on ? now : Date.now();
}

export function ago(then: number, now: number): string {
  const minutes = Math.floor((now - then) / 60_000);
  if (minutes < 1) return "just now";
  if (minutes < 60) return `${minutes} min ago`;
  const hours = Math.floor(minutes / 60);
  return hours < 48 ? `${hours} h ago` : `${Math.floor(hours / 24)} days ago`;
}

/** A relative time with the exact one on hover. */
export function Ago({ at }: { at: string }) {
  const now = useSyncExternalStore(calm.watch, calm.read);
  return (
    <time dateTime={at} title={new Date(at).toLocaleString()}>
      {ago(Date.parse(at), now)}
    </time>
  );
}

/** How long something still holds, with the exact end on hover. */
export function Until({ at }: { at: string }) {
  const now = useSyncExternalStore(calm.watch, calm.read);
  return (
    <time dateTime={at} title={new Date(at).toLocaleString()}>
      {left(Date.parse(at), now)}
    </time>
  );
}

export function left(end: number, now: number): string {
  const minutes = Math.ceil((end - now) / 60_000);
  if (minutes <= 0) return "over";
  if (minutes < 60) return `for another ${minutes} min`;
  const hours = Math.round(minutes / 60);
  return hours < 48 ? `for another ${hours} h` : `for another ${Math.round(hours / 24)} days`;
}

export function seconds(millis: number): string {
  if (millis < 60_000) return `${(millis / 1000).toFixed(1)} s`;
  return `${Math.floor(millis / 60_000)}:${String(Math.floor(millis / 1000) % 60).padStart(2, "0")} min`;
}
