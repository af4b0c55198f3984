import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Workspace } from "../api/client";
import type { components } from "../api/contract.gen";
import { AsCommand } from "../frame/copy";
import { TroubleNote } from "../frame/trouble";

type Comparison = components["schemas"]["Comparison"];
type Difference = components["schemas"]["Difference"];

/** The kinds as they are told together. */
const kinds: Record<Difference["kind"], string> = { check: "checks", definition: "definition", source: "source", image: "image", variable: "variables", tool: "tools", pip: "Python packages", npm: "npm packages", gem: "Ruby packages", package: "system packages", system: "system", limit: "limits", site: "site" };

/** How many differences of one reason are shown at first. */
const few = 8;

/** The workspace beside another one of the account: what differs, the most likely culprit first. */
export function Beside({ workspace: w }: { workspace: Workspace }) {
  const all = useQuery({ queryKey: ["workspaces"], queryFn: api.workspaces });
  const [chosen, setChosen] = useState("");
  const others = (all.data ?? []).map((o) => o.name).filter((name) => name !== w.name);
  const other = others.includes(chosen) ? chosen : (others[0] ?? "");
  const found = useQuery({ queryKey: ["workspace", w.name, "beside", other], queryFn: () => api.compare(w.name, other), enabled: false, gcTime: 0 });
  if (others.length === 0 || !w.image) return null;
  return (
    <section aria-labelledby="beside" className="mt-8">
      <h2 id="beside" className="mb-2 text-lg font-semibold">
        Beside another workspace
      </h2>
      <div className="flex flex-wrap items-center gap-2">
        <label className="flex items-center gap-2">
          Compare with
          <select className="select w-auto" value={other} onChange={(e) => setChosen(e.target.value)}>
            {others.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
        <button type="button" className="btn" onClick={() => void found.refetch()} disabled={found.isFetching}>
          {found.isFetching ? "Looking at both …" : "Compare"}
        </button>
      </div>
      {found.data && !found.isFetching && <Differences comparison={found.data} />}
      <AsCommand>{`domicile compare ${w.name} ${other}`}</AsCommand>
      <TroubleNote error={found.error} />
    </section>
  );
}

export function Differences({ comparison: c }: { comparison: Comparison }) {
  const unseen = [c.a, c.b].filter((side) => side.unseen);
  return (
    <div className="mt-3">
      {c.differences.length === 0 && <p>Nothing that was compared differs.</p>}
      {grouped(c.differences).map((group) => (
        <Group key={group[0]!.kind + group[0]!.name} group={group} names={[c.a.name, c.b.name]} />
      ))}
      {c.same.length > 0 && <p className="quiet mt-3">The same in both: {c.same.map((k) => kinds[k]).join(", ")}.</p>}
      {unseen.map((side) => (
        <p key={side.name} className="mt-1">
          Of {side.name} not everything was compared: {side.unseen}.
        </p>
      ))}
    </div>
  );
}

/** Differences that follow one another with the same reason. */
function grouped(list: Difference[]): Difference[][] {
  const groups: Difference[][] = [];
  for (const d of list) {
    const last = groups.at(-1);
    if (last && last[0]!.why === d.why) last.push(d);
    else groups.push([d]);
  }
  return groups;
}

function Group({ group, names }: { group: Difference[]; names: [string, string] }) {
  const [whole, setWhole] = useState(false);
  const why = group[0]!.why;
  return (
    <div className="mt-4">
      <h3 className="font-semibold">{why.charAt(0).toUpperCase() + why.slice(1)}</h3>
      <ul>
        {(whole ? group : group.slice(0, few)).map((d) => (
          <li key={d.kind + d.name} className="inked border-b py-1">
            <span>
              {d.name} <span className="quiet">({d.kind})</span>
            </span>
            <dl className="grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 text-sm">
              <Side name={names[0]} value={d.a} />
              <Side name={names[1]} value={d.b} />
            </dl>
          </li>
        ))}
      </ul>
      {!whole && group.length > few && (
        <button type="button" className="btn btn-sm mt-2" onClick={() => setWhole(true)}>
          Show {group.length - few} more
        </button>
      )}
    </div>
  );
}

function Side({ name, value }: { name: string; value?: string }) {
  return (
    <>
      <dt>{name}</dt>
      <dd className="font-mono break-words">{value ?? <span className="quiet font-sans">has none</span>}</dd>
    </>
  );
}
