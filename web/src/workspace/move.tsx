import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Workspace } from "../api/client";
import { sizeWords } from "../frame/amount";
import { Ask } from "../frame/ask";
import { AsCommand } from "../frame/copy";
import { TroubleNote } from "../frame/trouble";

/** A move to another site, offered where there is one that takes something. */
export function Move({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const sites = useQuery({ queryKey: ["sites"], queryFn: api.sites });
  const [chosen, setChosen] = useState("");
  const [size, setSize] = useState("");
  const here = sites.data?.find((s) => s.name === w.site);
  const others = here ? (sites.data ?? []).filter((s) => s !== here && s.ready && !s.drained) : [];
  const to = others.find((s) => s.name === chosen) ?? others[0];
  const has = to?.sizes?.some((s) => s.name === size) ? size : "";
  const move = useMutation({ mutationFn: () => api.move(w.name, to?.name ?? "", has || undefined), onSuccess: () => queries.invalidateQueries({ queryKey: ["workspace", w.name] }) });
  const kept = w.state === "lost" ? w.kept : undefined;
  const anew = useMutation({ mutationFn: () => api.move(w.name, kept?.site ?? "", undefined, true), onSuccess: () => queries.invalidateQueries({ queryKey: ["workspace", w.name] }) });
  if (kept)
    return (
      <>
        <Ask className="btn" button="Make it anew …" title={`Make ${w.name} anew at ${kept.site}?`} yes="Make it anew" act={() => anew.mutate()} disabled={anew.isPending} harmless>
          <p>
            It begins with what was kept of it on {new Date(kept.created).toLocaleString()}. What was changed in it since then is missing; what {w.site} has of it is kept as a snapshot when that site answers again.
          </p>
          <div className="mt-4">
            <AsCommand>{`domicile move ${w.name} -site ${kept.site} -from-kept`}</AsCommand>
          </div>
        </Ask>
        <TroubleNote error={anew.error} />
      </>
    );
  if (!to || w.state === "lost") return null;
  return (
    <>
      <Ask className="btn" button="Move …" title={`Move ${w.name} to another site?`} yes="Move it" act={() => move.mutate()} disabled={move.isPending} harmless>
        <p>It stops at {w.site}. Its files go with it: the source with what is not committed, the home folder, volumes, and what was installed by hand. Until it works there, what it was stays.</p>
        <label className="mt-4 flex flex-col gap-1">
          Site
          <select className="select w-full" value={to.name} onChange={(e) => setChosen(e.target.value)}>
            {others.map((s) => (
              <option key={s.name}>{s.name}</option>
            ))}
          </select>
        </label>
        {(to.sizes?.length ?? 0) > 0 && (
          <label className="mt-2 flex flex-col gap-1">
            Size there
            <select className="select w-full" value={has} onChange={(e) => setSize(e.target.value)}>
              <option value="">as now, or the usual one</option>
              {to.sizes?.map((s) => (
                <option key={s.name} value={s.name}>
                  {s.name}: {sizeWords(s)}
                </option>
              ))}
            </select>
          </label>
        )}
        <div className="mt-4">
          <AsCommand>{`domicile move ${w.name} -site ${to.name}${has ? ` -size ${has}` : ""}`}</AsCommand>
        </div>
      </Ask>
      <TroubleNote error={move.error} />
    </>
  );
}
