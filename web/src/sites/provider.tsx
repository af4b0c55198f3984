import { useState } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { api, type Site } from "../api/client";
import { Entry } from "../frame/entry";

/** Adding a site of instances that are rented from a provider. */
export function AddProvider() {
  const queries = useQueryClient();
  const [added, setAdded] = useState<string>();
  return (
    <section aria-labelledby="add-provider" className="mt-6 min-w-0">
      <details>
        <summary id="add-provider" className="cursor-pointer text-lg font-semibold">
          Add a provider of rented instances
        </summary>
        <p className="quiet mt-2">Each workspace there has an instance of its own, which is paid for while it is there. The key is kept sealed.</p>
        <Entry
          fields={[
            { name: "name", label: "What the site is called here", placeholder: "rented" },
            { name: "address", label: "The provider, and its region", placeholder: "https://cloud.example.com/north" },
            { name: "key", label: "The key of the account there", secret: true },
          ]}
          send={(v) =>
            api.addProvider(v.name ?? "", v.address ?? "", v.key ?? "").then(() => {
              setAdded(v.name);
              return queries.invalidateQueries({ queryKey: ["sites"] });
            })
          }
          button="Add it"
          command={(v) => `domicile sites add ${v.name || "NAME"} ${v.address || "ADDRESS"} -key FILE`}
        />
        {added && <p role="status">The site {added} can hold workspaces.</p>}
      </details>
    </section>
  );
}

/** Another key of the account at a site's provider. */
export function AccountKey({ site: s }: { site: Site }) {
  const [done, setDone] = useState(false);
  return (
    <details>
      <summary className="cursor-pointer">Another key of the account</summary>
      <Entry
        fields={[{ name: "key", label: "The key, which is tried first", secret: true }]}
        send={(v) => api.changeSite(s.name, { key: v.key }).then(() => setDone(true))}
        button="Use it"
        command={() => `domicile sites change ${s.name} -key FILE`}
      />
      {done && <p role="status">It counts from now on.</p>}
    </details>
  );
}
