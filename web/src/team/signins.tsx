import { useQuery } from "@tanstack/react-query";
import { api, type SignIn } from "../api/client";
import { AsCommand } from "../frame/copy";
import { Ago } from "../frame/time";
import { TroubleNote } from "../frame/trouble";

const words: Record<SignIn["outcome"], string> = { in: "● signed in", wrong: "✕ wrong password", slowed: "▲ refused, too many tries", locked: "▲ the account is locked" };

/** How many are shown before somebody asks for all. */
const shown = 12;

/** Who signed in lately, or tried to, and from where. */
export function SignIns() {
  const list = useQuery({ queryKey: ["sign-ins"], queryFn: api.signIns, refetchInterval: 15_000 });
  return (
    <section aria-labelledby="sign-ins" className="min-w-0">
      <h2 id="sign-ins" className="mb-4 text-xl font-semibold">
        Lately signed in
      </h2>
      {list.data?.length === 0 && <p className="quiet">Nobody yet.</p>}
      <ul>
        {list.data?.slice(0, shown).map((s, i) => (
          <li key={`${s.at} ${i}`} className="inked grid grid-cols-[minmax(0,1fr)_auto] gap-x-4 border-b py-1">
            <span className="break-words">
              {s.name} <span className="quiet">from {s.address}</span>
            </span>
            <span className="quiet text-sm">
              <Ago at={s.at} />
            </span>
            <span className={s.outcome === "in" ? "quiet text-sm" : "text-sm text-warning"}>{words[s.outcome]}</span>
          </li>
        ))}
      </ul>
      <TroubleNote error={list.error} />
      <AsCommand>domicile sign-ins</AsCommand>
    </section>
  );
}
