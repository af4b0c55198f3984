import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api } from "../api/client";
import { State } from "../frame/state";
import { Until } from "../frame/time";

/** The workspaces of others that one is invited into; nothing where there are none. */
export function AsGuest() {
  const list = useQuery({ queryKey: ["invitations"], queryFn: api.invitations });
  if (!list.data?.length) return null;
  return (
    <section aria-labelledby="as-guest" className="mt-8">
      <h2 id="as-guest" className="mb-3 text-lg font-semibold">
        Where you are a guest
      </h2>
      <ul className="grid gap-4 sm:grid-cols-2">
        {list.data.map((i) => (
          <li key={i.name} className="min-w-0">
            <article className="plate flex h-full flex-col gap-1 px-5 py-4" aria-label={i.name}>
              <div className="flex flex-wrap items-baseline justify-between gap-x-4">
                <h3 className="min-w-0 text-xl font-semibold break-words">
                  <Link to={`/guest/${i.name}`} className="hover:underline">
                    {i.workspace}
                  </Link>
                </h3>
                <State state={i.state} />
              </div>
              <p className="quiet text-sm">
                of {i.owner}; you may {i.may}, <Until at={i.until} />
              </p>
            </article>
          </li>
        ))}
      </ul>
    </section>
  );
}
