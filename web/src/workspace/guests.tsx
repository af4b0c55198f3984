import { useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Guest, type Workspace } from "../api/client";
import { AsCommand } from "../frame/copy";
import { Ago, Until } from "../frame/time";
import { TroubleNote } from "../frame/trouble";

/** Who is invited into a workspace, to look or to type, and for how long. */
export function Guests({ workspace: w }: { workspace: Workspace }) {
  const queries = useQueryClient();
  const mine = !w.name.includes("."); // nobody is invited into a helper
  const all = useQuery({ queryKey: ["workspace", w.name, "guests"], queryFn: () => api.guests(w.name), enabled: mine, refetchInterval: (q) => (q.state.data?.guests.length ? 15_000 : false) });
  const [person, setPerson] = useState("");
  const [may, setMay] = useState<Guest["may"]>("look");
  const [hours, setHours] = useState(8);
  const again = () => queries.invalidateQueries({ queryKey: ["workspace", w.name, "guests"] });
  const invite = useMutation({
    mutationFn: () => api.inviteGuest(w.name, person.trim(), { may, hours }),
    onSuccess: () => {
      setPerson("");
      return again();
    },
  });
  const end = useMutation({ mutationFn: (who: string) => api.removeGuest(w.name, who), onSuccess: again });
  if (!mine) return null;
  return (
    <section aria-labelledby="guests" className="mt-8">
      <h2 id="guests" className="mb-2 text-lg font-semibold">
        Guests
      </h2>
      {all.data?.guests.length === 0 && <p className="quiet text-sm">Nobody but you gets in. Who is invited can look or type here, for a time.</p>}
      <ul>
        {all.data?.guests.map((g) => (
          <li key={g.person} className="inked flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b py-2">
            <span className="font-semibold">{g.person}</span>
            <span className="quiet text-sm">
              may {g.may}, <Until at={g.until} />, {g.came ? <>came <Ago at={g.came} /></> : "has not come yet"}
            </span>
            <button type="button" className="btn btn-sm ml-auto" onClick={() => end.mutate(g.person)} disabled={end.isPending} aria-label={`End the invitation of ${g.person}`}>
              End
            </button>
          </li>
        ))}
      </ul>
      <form
        className="mt-2 flex flex-wrap items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          invite.mutate();
        }}
      >
        <input className="input w-40 min-w-0 grow" aria-label="Whom to invite" placeholder="name of an account" value={person} onChange={(e) => setPerson(e.target.value)} />
        <select className="select w-auto" aria-label="What the guest may do" value={may} onChange={(e) => setMay(e.target.value as Guest["may"])}>
          <option value="look">to look</option>
          <option value="type">to type</option>
        </select>
        <label className="flex items-center gap-2 text-sm">
          for
          <input className="input figures w-20" type="number" min={1} max={720} aria-label="For how many hours" value={hours} onChange={(e) => setHours(Number(e.target.value))} />
          hours
        </label>
        <button className="btn" disabled={invite.isPending || !person.trim()}>
          Invite
        </button>
      </form>
      {may === "type" && <p className="mt-1 text-sm">Who types here can do what you can do here, with the credentials that the workspace has. Nothing here reaches your own machine meanwhile: not your usher, nor keys and a display that ssh offers.</p>}
      <AsCommand>{`domicile invite ${w.name} ${person.trim() || "PERSON"} -may ${may} -hours ${hours}`}</AsCommand>
      <TroubleNote error={invite.error ?? end.error ?? all.error} />
      {!!all.data?.changes.length && (
        <details className="mt-1 text-sm">
          <summary className="quiet min-h-6 cursor-pointer py-1">what was done about guests</summary>
          <ul>
            {all.data.changes.map((c) => (
              <li key={c.at + c.what}>
                <span className="quiet">
                  <Ago at={c.at} />
                </span>{" "}
                {c.by || "somebody who is gone"} {c.what}
              </li>
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}
