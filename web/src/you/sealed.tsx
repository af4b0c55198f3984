import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api } from "../api/client";
import { Entry } from "../frame/entry";
import { Sealed } from "../frame/sealed";
import { TroubleNote } from "../frame/trouble";

/** How the account signs in to git hosts. */
export function GitHosts() {
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["git-hosts"] });
  const list = useQuery({ queryKey: ["git-hosts"], queryFn: api.gitHosts });
  const remove = useMutation({ mutationFn: api.removeGitHost, onSuccess: again });
  return (
    <section aria-labelledby="git-hosts" className="min-w-0">
      <h2 id="git-hosts" className="mb-2 text-xl font-semibold">
        Git hosts
      </h2>
      <Sealed none="You sign in to none. Repositories that are open to all need none." items={list.data?.map((g) => ({ key: `${g.host} ${g.key}`, name: g.host, detail: g.key ? "SSH key" : `token of ${g.username}`, created: g.created, remove: () => remove.mutate(g.host) }))} />
      <Entry
        fields={[
          { name: "host", label: "Host", placeholder: "git.example.com" },
          { name: "username", label: "Name that goes with the token", optional: true, placeholder: "git" },
          { name: "token", label: "Token", secret: true },
        ]}
        send={(v) => api.setGitHost(v.host ?? "", { username: v.username || undefined, token: v.token }).then(again)}
        button="Sign in to it"
        command={(v) => `domicile githosts add ${v.host || "HOST"}`}
      />
      <TroubleNote error={list.error ?? remove.error} />
    </section>
  );
}

/** Secrets of the account, each for definitions of one source. */
export function Secrets() {
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["secrets"] });
  const list = useQuery({ queryKey: ["secrets"], queryFn: api.secrets });
  const remove = useMutation({ mutationFn: (s: { name: string; source: string }) => api.removeSecret(s.name, s.source), onSuccess: again });
  return (
    <section aria-labelledby="secrets" className="min-w-0">
      <h2 id="secrets" className="mb-2 text-xl font-semibold">
        Your secrets
      </h2>
      <Sealed none="You keep none. A definition gets a secret only where you name its source." items={list.data?.map((s) => ({ key: `${s.name} ${s.source}`, name: s.name, detail: `for ${s.source}`, created: s.created, remove: () => remove.mutate(s) }))} />
      <Entry
        fields={[
          { name: "name", label: "Name of the secret", placeholder: "TIDE_TOKEN" },
          { name: "source", label: "Source whose definitions get it", placeholder: "https://…/tides.git" },
          { name: "value", label: "Value", secret: true },
        ]}
        send={(v) => api.setSecret(v.name ?? "", v.source ?? "", v.value ?? "").then(again)}
        button="Keep the secret"
        command={(v) => `domicile secrets set ${v.name || "NAME"} -for ${v.source || "SOURCE"}`}
      />
      <TroubleNote error={list.error ?? remove.error} />
    </section>
  );
}

/** The account's own settings: what is put into each workspace, and whose commits are made there. */
export function Own() {
  const queries = useQueryClient();
  const account = useQuery({ queryKey: ["account"], queryFn: api.account });
  const again = () => queries.invalidateQueries({ queryKey: ["account"] });
  if (!account.data) return <TroubleNote error={account.error} />;
  return (
    <section aria-labelledby="own" className="min-w-0">
      <h2 id="own" className="mb-2 text-xl font-semibold">
        In every workspace you make
      </h2>
      <Entry keep fields={[{ name: "source", label: "Repository of your own settings", optional: true, placeholder: "https://…/settings.git", first: account.data.personal }]} send={(v) => api.setPersonal(v.source ?? "").then(again)} button="Put them in" command={(v) => `domicile personal ${v.source || "-none"}`} />
      <Entry
        keep
        fields={[
          { name: "name", label: "Author of commits", optional: true, first: account.data.authorName },
          { name: "mail", label: "Mail address", optional: true, first: account.data.authorMail },
        ]}
        send={(v) => api.setAuthor({ name: v.name ?? "", mail: v.mail ?? "" }).then(again)}
        button="Commit as this author"
        command={(v) => `domicile author -name "${v.name}" -mail ${v.mail || "ADDRESS"}`}
      />
    </section>
  );
}
