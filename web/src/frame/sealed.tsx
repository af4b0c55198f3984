import { Ago } from "./time";

export type Item = { key: string; name: string; detail: string; created: string; remove: () => void };

/** A list of things that are kept sealed: what they are, since when, and a way to forget each. */
export function Sealed({ items, none }: { items?: Item[]; none: string }) {
  if (items?.length === 0) return <p className="quiet">{none}</p>;
  return (
    <ul>
      {items?.map((i) => (
        <li key={i.key} className="inked flex items-start justify-between gap-4 border-b py-2">
          <div className="min-w-0">
            <div className="break-words">{i.name}</div>
            <div className="quiet text-sm break-words">
              {i.detail}, <Ago at={i.created} />
            </div>
          </div>
          <button type="button" className="btn btn-sm" onClick={i.remove} aria-label={`Forget ${i.name}`}>
            Forget
          </button>
        </li>
      ))}
    </ul>
  );
}
