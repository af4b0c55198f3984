import { useQuery } from "@tanstack/react-query";
import { api, type Site } from "../api/client";
import { amount, sizeWords } from "../frame/amount";
import { Ago } from "../frame/time";
import { Loading, TroubleNote } from "../frame/trouble";
import { AddHost, SiteUpkeep } from "./hosts";
import { AddProvider } from "./provider";
import { PreparedSources, Tidy } from "./upkeep";

export function Sites() {
  const sites = useQuery({ queryKey: ["sites"], queryFn: api.sites, refetchInterval: 5000 });
  const account = useQuery({ queryKey: ["account"], queryFn: api.account });
  if (sites.isPending) return <Loading what="the sites" />;
  if (!sites.data) return <TroubleNote error={sites.error} />;
  return (
    <section aria-labelledby="sites" className="max-w-3xl">
      <title>Sites – Domicile</title>
      <h1 id="sites" className="mb-4 text-xl font-semibold">
        Sites
      </h1>
      <ul className="flex flex-col gap-4">
        {sites.data.map((s) => (
          <li key={s.name}>
            <SitePlate site={s} admin={account.data?.admin ?? false} />
          </li>
        ))}
      </ul>
      {account.data?.admin && <AddHost />}
      {account.data?.admin && <AddProvider />}
      <PreparedSources />
      {account.data?.admin && <Tidy />}
    </section>
  );
}

const known = (n?: number) => (n === undefined ? "not known" : amount(n));

function SitePlate({ site: s, admin }: { site: Site; admin: boolean }) {
  const rented = s.kind === "cloud"; // it has no memory and disk of its own: each instance has
  const rows: [string, string | string[] | undefined][] = [
    ["kind", s.kind],
    ["where", s.address && s.address + (s.through ? `, by way of ${s.through}` : "")],
    ["runs", s.engine],
    ["system", s.system],
    ["largest", rented ? `${s.processors} processors, ${known(s.memoryBytes)}` : undefined],
    ["processors", rented ? undefined : s.processors?.toString()],
    ["memory", rented ? undefined : known(s.memoryBytes) + (s.promisedBytes ? `, ${amount(s.promisedBytes)} of it promised to what runs` : "")],
    ["disk free", rented ? undefined : known(s.diskFreeBytes)],
    ["devices", s.devices?.join(", ")],
    ["graphics processor", s.gpu ? "can be given to workspaces" : undefined],
    ["root of a workspace", s.userNamespaces === undefined ? undefined : s.userNamespaces ? "is nobody on the host" : "is root on the host"],
    ["your workspaces", s.workspaces.toString()],
    ["sizes", s.sizes?.map((x) => `${x.name}: ${sizeWords(x)}`)],
    ["has cost", s.spent && `${s.spent.amount} ${s.spent.currency} until now`],
    ["without a size", s.size && `it is ${s.size}`],
    ["may run at a time", s.most?.toString()],
    ["copies", s.copies && `every ${s.copies.replace("@", " at ")}`],
    ["border", s.alone ? "each workspace has a machine of its own, in which a definition may ask for more" : undefined],
    ["definitions may ask for", s.allow?.join(", ")],
  ];
  return (
    <article className="plate px-6 py-5" aria-label={s.name}>
      <div className="flex items-baseline justify-between gap-4">
        <h2 className="text-xl font-semibold">{s.name}</h2>
        <span className={s.ready ? "text-success" : "text-error"}>{s.ready ? (s.slow ? "● answers slowly" : "● can hold workspaces") : "✕ does not answer"}</span>
      </div>
      {s.userNamespaces === false && <p className="mt-2 break-words text-warning">▲ Root of a workspace is root on its host here: start its engine with userns-remap.</p>}
      {s.apart === false && <p className="mt-2 break-words text-warning">▲ Not everything that is untrusted is kept apart from the service's host.</p>}
      {s.warning && <p className="mt-2 break-words text-warning">▲ {s.warning}</p>}
      {s.problem && <p className="mt-2 break-words">{s.problem}</p>}
      <dl className="mt-3 grid grid-cols-1 gap-x-6 text-base sm:grid-cols-[auto_minmax(0,1fr)]">
        {rows
          .filter(([, value]) => value)
          .map(([name, value]) => (
            <div key={name} className="contents">
              <dt className="quiet max-sm:mt-2 max-sm:text-sm">{name}</dt>
              <dd className="figures">
                {[value].flat().map((line) => (
                  <div key={line}>{line}</div>
                ))}
              </dd>
            </div>
          ))}
      </dl>
      {s.drained && <p className="mt-3">It takes nothing new. What is there goes on.</p>}
      {s.examined && (
        <p className="quiet mt-2 text-sm">
          examined <Ago at={s.examined} />
        </p>
      )}
      {admin && <SiteUpkeep site={s} />}
    </article>
  );
}
