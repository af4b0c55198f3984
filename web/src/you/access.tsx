import { useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type TokenInfo } from "../api/client";
import { CopyLine } from "../frame/copy";
import { Entry } from "../frame/entry";
import { Ago } from "../frame/time";
import { TroubleNote } from "../frame/trouble";

/** The sessions and tokens by which programs and pages act as the person. */
export function Tokens() {
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["tokens"] });
  const list = useQuery({ queryKey: ["tokens"], queryFn: api.tokens });
  const [made, setMade] = useState("");
  const remove = useMutation({ mutationFn: api.removeToken, onSuccess: again });
  return (
    <section aria-labelledby="tokens" className="min-w-0">
      <h2 id="tokens" className="mb-2 text-xl font-semibold">
        Sessions and tokens
      </h2>
      <ul>
        {list.data?.map((t) => (
          <Row key={t.id} token={t} remove={() => remove.mutate(t.id)} />
        ))}
      </ul>
      {made && (
        <div className="mt-3" role="status">
          <CopyLine label="The token, which is shown once" text={made} />
        </div>
      )}
      <Entry
        fields={[
          { name: "label", label: "What a new token is for", placeholder: "nightly builds" },
          { name: "days", label: "For how many days it counts", optional: true, placeholder: "90" },
        ]}
        send={(v) => api.addToken(v.label ?? "", Number(v.days) || undefined).then((t) => (setMade(t.token), again()))}
        button="Make a token"
        command={(v) => `domicile tokens add "${v.label || "LABEL"}" -days ${v.days || 90}`}
      />
      <TroubleNote error={list.error ?? remove.error} />
    </section>
  );
}

function Row({ token: t, remove }: { token: TokenInfo; remove: () => void }) {
  return (
    <li className="inked flex items-start justify-between gap-4 border-b py-2">
      <div className="min-w-0">
        <div className="break-words">
          {t.label} {t.current && <span className="quiet">(this one)</span>}
        </div>
        <div className="quiet text-sm">
          used {t.lastUsed ? <Ago at={t.lastUsed} /> : "never"}, counts until {t.expires.slice(0, 10)}
        </div>
      </div>
      {!t.current && (
        <button type="button" className="btn btn-sm" onClick={remove} aria-label={`End ${t.label}`}>
          End
        </button>
      )}
    </li>
  );
}

/** A change of one's own password. */
export function Password() {
  const queries = useQueryClient();
  const [done, setDone] = useState(false);
  return (
    <section aria-labelledby="password" className="min-w-0">
      <h2 id="password" className="mb-2 text-xl font-semibold">
        Password
      </h2>
      <p className="quiet">A change ends your other sessions and tokens.</p>
      <Entry
        fields={[
          { name: "current", label: "Until now", secret: true },
          { name: "password", label: "From now on, 12 characters at least", secret: true },
        ]}
        send={(v) =>
          api.setPassword(v.current ?? "", v.password ?? "").then(() => {
            setDone(true);
            return queries.invalidateQueries({ queryKey: ["tokens"] });
          })
        }
        button="Change it"
        command={() => "domicile password"}
      />
      {done && <p role="status">It is changed.</p>}
    </section>
  );
}
