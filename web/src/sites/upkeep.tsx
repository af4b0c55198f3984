import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Leftover } from "../api/client";
import { amount } from "../frame/amount";
import { Ask } from "../frame/ask";
import { AsCommand } from "../frame/copy";
import { Ago } from "../frame/time";
import { TroubleNote } from "../frame/trouble";

/** What was made ready ahead of time. */
export function PreparedSources() {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["prepared"], queryFn: api.prepared, refetchInterval: 5000 });
  const remove = useMutation({ mutationFn: api.removePrepared, onSuccess: () => queries.invalidateQueries({ queryKey: ["prepared"] }) });
  return (
    <section aria-labelledby="prepared" className="mt-10">
      <h2 id="prepared" className="mb-2 text-lg font-semibold">
        Prepared ahead of time
      </h2>
      {list.data?.length === 0 && <p className="quiet">Nothing is. A source that is prepared has its image and content made ready, and making a workspace of it takes a moment.</p>}
      <ul>
        {list.data?.map((p) => (
          <li key={p.name} className="inked flex flex-wrap items-center gap-x-4 border-b py-2">
            <div className="min-w-0 grow">
              <div className="break-words">
                {p.source}
                {p.ref && ` at ${p.ref}`}
              </div>
              <div className="quiet text-sm">
                {p.state}
                {p.commit && `, commit ${p.commit.slice(0, 12)}`}
                {p.follow && ", follows its branch"}
                {p.keep !== undefined && `, ${p.kept ?? 0} of ${p.keep} kept warm${p.price ? ` for ${p.price.perHour} ${p.price.currency} an hour` : ""}`}
                {p.bytes > 0 && `, ${amount(p.bytes)}`}
                {p.used && (
                  <>
                    , used <Ago at={p.used} />
                  </>
                )}
              </div>
              {p.keeping && <div className="break-words text-sm text-warning">One could not be kept warm, and is made again: {p.keeping}</div>}
              {p.reason && <div className="text-sm text-error break-words">{p.reason}</div>}
            </div>
            <Ask button="Remove" title="Remove what was prepared?" yes="Remove it" act={() => remove.mutate(p.name)}>
              Making a workspace of it takes its full time again. Workspaces that began with it stay.
            </Ask>
          </li>
        ))}
      </ul>
      <AsCommand>domicile prepare</AsCommand>
      <TroubleNote error={list.error ?? remove.error} />
    </section>
  );
}

/** Leftovers of one site and kind with one reason, together. */
export function grouped(list: Leftover[]) {
  const groups = new Map<string, { key: string; site: string; kind: string; why: string; names: string[]; bytes: number }>();
  for (const l of list) {
    const key = [l.site, l.kind, l.why].join("/");
    const g = groups.get(key) ?? { key, site: l.site, kind: l.kind, why: l.why, names: [], bytes: 0 };
    g.names.push(l.name);
    g.bytes += l.bytes;
    groups.set(key, g);
  }
  return [...groups.values()];
}

/** What nothing uses any more, for administrators. */
export function Tidy() {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["leftovers"], queryFn: api.leftovers });
  const tidy = useMutation({ mutationFn: api.tidy, onSuccess: () => queries.invalidateQueries({ queryKey: ["leftovers"] }) });
  const total = list.data?.reduce((sum, l) => sum + l.bytes, 0) ?? 0;
  return (
    <section aria-labelledby="tidy" className="mt-10">
      <h2 id="tidy" className="mb-2 text-lg font-semibold">
        What nothing uses any more
      </h2>
      {list.data?.length === 0 && <p className="quiet">There is nothing to tidy.</p>}
      <ul>
        {grouped(list.data ?? []).map((g) => (
          <li key={g.key} className="inked border-b py-1 text-sm">
            <details>
              <summary className="grid cursor-pointer grid-cols-[minmax(0,1fr)_6rem] gap-x-4">
                <span className="min-w-0 break-words">
                  {g.names.length} {g.kind}
                  {g.names.length > 1 && "s"} at {g.site}
                  <span className="quiet block">{g.why}</span>
                </span>
                <span className="figures text-right">{g.bytes > 0 ? amount(g.bytes) : ""}</span>
              </summary>
              <ul className="quiet">
                {g.names.map((n) => (
                  <li key={n} className="break-words">
                    {n}
                  </li>
                ))}
              </ul>
            </details>
          </li>
        ))}
      </ul>
      {Boolean(list.data?.length) && (
        <div className="mt-2">
          <Ask className="btn" button="Tidy up" title="Remove what nothing uses?" yes="Remove it" act={() => tidy.mutate()} disabled={tidy.isPending}>
            It frees {amount(total)} at least: layers that images share go with the last of them. Only what Domicile made is touched.
          </Ask>
        </div>
      )}
      <AsCommand>domicile tidy</AsCommand>
      <TroubleNote error={list.error ?? tidy.error} />
    </section>
  );
}
