import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Workspace } from "../api/client";
import { Loading, TroubleNote } from "../frame/trouble";
import { AsGuest } from "../guest/asguest";
import { Plate } from "./plate";
import { Attention } from "./attention";

/** All words must stand somewhere on the plate. */
export function matches(w: Workspace, words: string): boolean {
  const text = [w.name, w.state, w.source, w.ref, w.site, w.user].join(" ").toLowerCase();
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.includes(word));
}

/** What those that run cost an hour, by currency; empty for nothing. */
export function runningCost(list: Workspace[]): string {
  const sum = new Map<string, number>();
  for (const w of list) if (w.state === "ready" && w.price) sum.set(w.price.currency, (sum.get(w.price.currency) ?? 0) + Number(w.price.perHour));
  return [...sum]
    .sort()
    .map(([currency, hour]) => `${hour.toFixed(6).replace(/(\.\d\d\d*?)0+$/, "$1")} ${currency}`)
    .join(" and ");
}

export function Workspaces() {
  const list = useQuery({ queryKey: ["workspaces"], queryFn: api.workspaces });
  const [words, setWords] = useState("");
  if (list.isPending) return <Loading what="your workspaces" />;
  if (!list.data) return <TroubleNote error={list.error} />;
  if (list.data.length === 0)
    return (
      <>
        <Empty />
        <AsGuest />
      </>
    );
  const shown = list.data.filter((w) => matches(w, words));
  const costs = runningCost(list.data);
  return (
    <div className="grid gap-8 lg:grid-cols-[minmax(0,1fr)_20rem]">
      <title>Workspaces – Domicile</title>
      <section aria-labelledby="workspaces">
        <div className="mb-4 flex flex-wrap items-end gap-4">
          <h1 id="workspaces" className="text-xl font-semibold">
            Workspaces
          </h1>
          <label className="ml-auto flex items-center gap-2">
            <span className="quiet text-sm">Filter</span>
            <input type="search" className="input input-sm w-48" placeholder="name, state, source" value={words} onChange={(e) => setWords(e.target.value)} />
          </label>
        </div>
        {list.error && <TroubleNote error={list.error} />}
        {costs && <p className="quiet mb-3 text-sm">What runs costs {costs} an hour.</p>}
        <ul className="grid gap-4 sm:grid-cols-2">
          {shown.map((w) => (
            <li key={w.id} className="min-w-0">
              <Plate workspace={w} />
            </li>
          ))}
        </ul>
        {shown.length === 0 && <p className="quiet">None of your {list.data.length} workspaces has these words.</p>}
        <AsGuest />
      </section>
      <Attention list={list.data} />
    </div>
  );
}

function Empty() {
  return (
    <div className="mx-auto max-w-xl py-16 text-center">
      <title>Workspaces – Domicile</title>
      <h1 className="text-2xl font-semibold">Your workspaces will hang here</h1>
      <p className="quiet mt-2">Each is a place to work, made of a repository that carries a dev container definition.</p>
      <Link to="/new" className="btn btn-primary mt-6">
        Make the first one
      </Link>
    </div>
  );
}
