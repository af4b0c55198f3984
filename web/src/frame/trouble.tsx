import { Trouble } from "../api/client";

/** What went wrong: what, why, and what to do. */
export function TroubleNote({ error }: { error: unknown }) {
  if (!error) return null;
  const t = error instanceof Trouble ? error : undefined;
  return (
    <div role="alert" className="border-l-4 border-error bg-base-200 px-4 py-2">
      <p className="font-semibold">{error instanceof Error ? error.message : String(error)}</p>
      {t?.detail && <p className="text-sm break-words">{t.detail}</p>}
      {t?.remedy && <p className="text-sm">What to do: {t.remedy}</p>}
    </div>
  );
}

/** Says that something goes on, once it takes long enough to be noticed. */
export function Loading({ what }: { what: string }) {
  return (
    <p className="quiet at-work py-8" role="status">
      Loading {what} …
    </p>
  );
}
