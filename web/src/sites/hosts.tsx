import { useState } from "react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, type HostTrust, type Site } from "../api/client";
import { AsCommand, CopyLine } from "../frame/copy";
import { Entry } from "../frame/entry";
import { TroubleNote } from "../frame/trouble";
import { AccountKey } from "./provider";

/** Adding a host that is reached over SSH: what it shows, and what it needs. */
export function AddHost() {
  const queries = useQueryClient();
  const [trust, setTrust] = useState<HostTrust>();
  return (
    <section aria-labelledby="add-host" className="mt-10 min-w-0">
      <details>
        <summary id="add-host" className="cursor-pointer text-lg font-semibold">
          Add a host over SSH
        </summary>
        <p className="quiet mt-2">A machine with a container engine, on which the service has an account of its own.</p>
        <Entry
          fields={[
            { name: "name", label: "What it is called here", placeholder: "skiff" },
            { name: "address", label: "Where it is", placeholder: "ssh://crew@skiff.example.com" },
            { name: "through", label: "By way of another host, where it is behind one", placeholder: "ssh://crew@gate.example.com", optional: true },
          ]}
          send={(v) =>
            api.addSite(v.name ?? "", v.address ?? "", v.through || undefined).then((t) => {
              setTrust(t);
              return queries.invalidateQueries({ queryKey: ["sites"] });
            })
          }
          button="Add it"
          command={(v) => `domicile sites add ${v.name || "NAME"} ${v.address || "ADDRESS"}${v.through ? ` -through ${v.through}` : ""}`}
        />
        {trust && <Trust trust={trust} />}
      </details>
    </section>
  );
}

function Trust({ trust }: { trust: HostTrust }) {
  return (
    <div className="mt-3 flex flex-col gap-2" role="status">
      {trust.through?.map((h) => (
        <p key={h.host}>
          The host {h.host} on the way is known by <span className="figures wrap-anywhere">{h.fingerprint}</span> now.
        </p>
      ))}
      <p>
        The host of {trust.name} shows the key <span className="figures wrap-anywhere">{trust.fingerprint}</span>, which is pinned now. Compare it there:
      </p>
      <CopyLine label="On the host" text="ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub" />
      <CopyLine label="In ~/.ssh/authorized_keys of the user there" text={trust.install} />
    </div>
  );
}

/** A setting as it is written: the site's own, or the word for the service's. */
const written = (s: Site, name: string, value: string) => (s.own?.includes(name) ? value || "none" : "service");

/** What a site has of its own in place of the service's settings. */
function SiteSettings({ site: s }: { site: Site }) {
  const queries = useQueryClient();
  const rented = s.kind === "cloud"; // its sizes are its provider's
  const sizes = (s.sizes ?? []).map((x) => `${x.name}=${x.cpus}:${x.memoryBytes / 2 ** 20}mb${x.price ? `:${x.price.perHour}${x.price.currency}` : ""}`).join(",");
  return (
    <details>
      <summary className="cursor-pointer">What counts here</summary>
      <p className="quiet mt-1 text-sm">The word service stands for what counts everywhere. A change counts for what is made from now on.</p>
      <Entry
        keep
        fields={[
          { name: "allow", label: "What definitions may ask for", first: written(s, "allow", s.allow?.join(",") ?? "") },
          ...(rented ? [] : [{ name: "sizes", label: "Sizes, as NAME=PROCESSORS:MEMORY:PRICE-AN-HOUR", first: written(s, "sizes", sizes) }]),
          { name: "size", label: "The size of who asks for none", first: written(s, "size", s.size ?? "") },
          { name: "most", label: "How many workspaces may run at a time", first: s.most?.toString() ?? "none" },
          { name: "copies", label: "Copies of its workspaces, as EVERY@SITE", first: s.copies ?? "none" },
        ]}
        send={(v) => api.changeSite(s.name, { allow: v.allow, sizes: v.sizes, size: v.size, most: v.most, copies: v.copies }).then(() => queries.invalidateQueries({ queryKey: ["sites"] }))}
        button="Change it"
        command={(v) => `domicile sites change ${s.name} -allow ${v.allow}${rented ? "" : ` -sizes ${v.sizes}`} -size ${v.size} -most ${v.most} -copies ${v.copies}`}
      />
    </details>
  );
}

/** What an administrator does with a site: look at it, let it rest, trust its host anew, forget it. */
export function SiteUpkeep({ site: s }: { site: Site }) {
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["sites"] });
  const examine = useMutation({ mutationFn: () => api.examineSite(s.name), onSettled: again });
  const drain = useMutation({ mutationFn: (drained: boolean) => api.drainSite(s.name, drained), onSuccess: again });
  const trust = useMutation({ mutationFn: () => api.trustHost(s.name), onSuccess: again });
  const remove = useMutation({ mutationFn: () => api.removeSite(s.name), onSuccess: again });
  return (
    <div className="mt-3 flex flex-col gap-2">
      <div className="flex flex-wrap gap-2">
        <button type="button" className="btn btn-sm" onClick={() => examine.mutate()} disabled={examine.isPending}>
          {examine.isPending ? "Looking …" : "Examine"}
        </button>
        {!s.drained && (
          <button type="button" className="btn btn-sm" onClick={() => drain.mutate(true)} disabled={drain.isPending}>
            Take nothing new
          </button>
        )}
        {s.drained && (
          <button type="button" className="btn btn-sm" onClick={() => drain.mutate(false)} disabled={drain.isPending}>
            Take workspaces again
          </button>
        )}
        {s.kind === "remote" && s.problem?.includes("another key") && (
          <button type="button" className="btn btn-sm" onClick={() => trust.mutate()} disabled={trust.isPending}>
            Trust the key that it shows now
          </button>
        )}
        {s.drained && (
          <button type="button" className="btn btn-sm btn-outline btn-error" onClick={() => remove.mutate()} disabled={remove.isPending}>
            Forget this site
          </button>
        )}
      </div>
      {examine.data && (
        <table className="table table-sm">
          <thead>
            <tr>
              <th>what</th>
              <th>found</th>
              <th className="max-sm:hidden">wanted</th>
            </tr>
          </thead>
          <tbody>
            {examine.data.map((f) => (
              <tr key={f.what}>
                <td>{f.what}</td>
                <td className="wrap-anywhere">
                  {f.fine ? "" : "▲ "}
                  {f.found}
                  {f.wanted && <span className="quiet block sm:hidden">wanted: {f.wanted}</span>}
                  {f.remedy && <span className="block text-sm">What to do: {f.remedy}</span>}
                </td>
                <td className="quiet max-sm:hidden">{f.wanted}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <SiteSettings site={s} />
      {trust.data && <Trust trust={trust.data} />}
      <TroubleNote error={examine.error ?? drain.error ?? trust.error ?? remove.error} />
      {s.kind === "cloud" && <AccountKey site={s} />}
      <AsCommand>{`domicile sites examine ${s.name}`}</AsCommand>
    </div>
  );
}
