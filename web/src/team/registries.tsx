import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api } from "../api/client";
import { Entry } from "../frame/entry";
import { Sealed } from "../frame/sealed";
import { TroubleNote } from "../frame/trouble";

/** The service's credentials of registries, for administrators. */
export function Registries() {
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["registries"] });
  const list = useQuery({ queryKey: ["registries"], queryFn: api.registries });
  const remove = useMutation({ mutationFn: api.removeRegistry, onSuccess: again });
  return (
    <section aria-labelledby="registries" className="min-w-0">
      <h2 id="registries" className="mb-2 text-xl font-semibold">
        Registries
      </h2>
      <Sealed none="The service signs in to none. Registries that are open to all need none." items={list.data?.map((r) => ({ key: r.host, name: r.host, detail: `as ${r.username}`, created: r.created, remove: () => remove.mutate(r.host) }))} />
      <Entry
        fields={[
          { name: "host", label: "Registry", placeholder: "registry.example.com" },
          { name: "username", label: "Name" },
          { name: "password", label: "Password or token", secret: true },
        ]}
        send={(v) => api.setRegistry(v.host ?? "", v.username ?? "", v.password ?? "").then(again)}
        button="Keep them"
        command={(v) => `domicile registries add ${v.host || "HOST"} -user ${v.username || "NAME"}`}
      />
      <TroubleNote error={list.error ?? remove.error} />
    </section>
  );
}
