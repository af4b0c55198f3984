import { useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Account } from "../api/client";
import { Ask } from "../frame/ask";
import { AsCommand } from "../frame/copy";
import { Entry } from "../frame/entry";
import { TroubleNote } from "../frame/trouble";

/** The accounts: made, locked, opened, removed, and given another password. */
export function People({ own }: { own: string }) {
  const queries = useQueryClient();
  const accounts = useQuery({ queryKey: ["accounts"], queryFn: api.accounts });
  const again = () => queries.invalidateQueries({ queryKey: ["accounts"] });
  return (
    <section aria-labelledby="people" className="min-w-0">
      <h1 id="people" className="mb-4 text-xl font-semibold">
        People
      </h1>
      <ul>
        {accounts.data?.map((a) => (
          <Person key={a.id} account={a} own={a.name === own} again={again} />
        ))}
      </ul>
      <TroubleNote error={accounts.error} />
      <Entry
        fields={[
          { name: "name", label: "Name of a new account" },
          { name: "password", label: "Its first password, 12 characters at least", secret: true },
        ]}
        send={(v) => api.addAccount({ name: v.name ?? "", password: v.password ?? "" }).then(again)}
        button="Make the account"
        command={(v) => `domicile accounts add ${v.name || "NAME"}`}
      />
    </section>
  );
}

function Person({ account: a, own, again }: { account: Account; own: boolean; again: () => Promise<unknown> }) {
  const [resets, setResets] = useState(false);
  const lock = useMutation({ mutationFn: () => api.lockAccount(a.name, !a.locked), onSuccess: again });
  const remove = useMutation({ mutationFn: () => api.removeAccount(a.name), onSuccess: again });
  return (
    <li className="inked border-b py-2">
      <div className="flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
        <div className="min-w-0">
          <span className="break-words">{a.name}</span> <span className="quiet">{a.admin ? "administrator" : "member"}</span>
          {a.locked && <span className="text-warning"> ▲ locked</span>}
        </div>
        {!own && (
          <div className="flex flex-wrap gap-2">
            <button type="button" className="btn btn-sm" onClick={() => setResets(!resets)} aria-expanded={resets}>
              Another password
            </button>
            <button type="button" className="btn btn-sm" onClick={() => lock.mutate()} disabled={lock.isPending}>
              {a.locked ? "Open again" : "Lock"}
            </button>
            <Ask button="Remove" title={`Remove the account ${a.name}?`} yes="Remove it" act={() => remove.mutate()}>
              <p>Its workspaces with all that is in them, its snapshots, keys and secrets are removed with it. This cannot be undone.</p>
              <AsCommand>{`domicile accounts remove ${a.name}`}</AsCommand>
            </Ask>
          </div>
        )}
      </div>
      {resets && (
        <Entry
          fields={[{ name: "password", label: `Another password for ${a.name}`, secret: true }]}
          send={(v) => api.resetPassword(a.name, v.password ?? "").then(() => setResets(false))}
          button="Give it"
          command={() => `domicile accounts password ${a.name}`}
        />
      )}
      <TroubleNote error={lock.error ?? remove.error} />
    </li>
  );
}
