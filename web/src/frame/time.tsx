import { useEffect, useState } from "react";

/** The time, looked at again every so often. */
export function useNow(every: number, on = true) {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    if (!on) return;
    const timer = setInterval(() => setNow(Date.now()), every);
    return () => clearInterval(timer);
  }, [every, on]);
  return now;
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
  const now = useNow(30_000);
  return (
    <time dateTime={at} title={new Date(at).toLocaleString()}>
      {ago(Date.parse(at), now)}
    </time>
  );
}

export function seconds(millis: number): string {
  if (millis < 60_000) return `${(millis / 1000).toFixed(1)} s`;
  return `${Math.floor(millis / 60_000)}:${String(Math.floor(millis / 1000) % 60).padStart(2, "0")} min`;
}
