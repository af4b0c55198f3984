import { useQuery } from "@tanstack/react-query";
import { api } from "../api/client";
import { sizeWords } from "../frame/amount";
import { seconds } from "../frame/time";
import { TroubleNote } from "../frame/trouble";

/** The plan, drawn before anything is made: its steps, what is there already, how long each takes. */
export function Plan({ source, at, file, site = "", size, vary = [] }: { source: string; at: string; file?: string; site?: string; size: string; vary?: string[] }) {
  const plan = useQuery({ queryKey: ["plan", source, at, file, site, size, vary], queryFn: () => api.plan({ source, ref: at || undefined, file, site: site || undefined, size: size || undefined, vary: vary.length > 0 ? vary : undefined }) });
  const longest = Math.max(...(plan.data?.steps.map((s) => s.millis ?? 0) ?? []), 1);
  return (
    <section aria-labelledby="plan" className="mt-6" aria-busy={plan.isPending}>
      <h3 id="plan" className="mb-1 font-semibold">
        The plan
      </h3>
      {plan.isPending && <p className="quiet">Planning …</p>}
      {plan.data?.refused && (
        <div role="alert">
          <p>Nothing would be made: it asks for what it does not get here.</p>
          <ul>
            {plan.data.refused.map((r) => (
              <li key={r.says} className="inked border-b py-1 text-sm break-words">
                {r.says}
                {r.remedy && <span className="quiet block">{r.remedy}</span>}
              </li>
            ))}
          </ul>
        </div>
      )}
      {plan.data?.siteReason && (
        <p className="quiet text-sm">
          At {plan.data.site}: {plan.data.siteReason}.
        </p>
      )}
      {plan.data?.otherSites?.map((o) => (
        <p key={o.site} className="quiet text-sm break-words">
          Not at {o.site}: {o.why}.
        </p>
      ))}
      {plan.data?.granted?.map((words) => (
        <p key={words} className="quiet text-sm break-words">
          {words}.
        </p>
      ))}
      {plan.data?.size && (
        <p className="quiet text-sm">
          {plan.data.size.name}: {sizeWords(plan.data.size)}
          {plan.data.size.price && " if it always runs"}.
        </p>
      )}
      <ol className="text-sm">
        {plan.data?.steps.map((s) => (
          <li key={s.name} className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-3">
            <span className={`truncate ${s.there ? "quiet" : ""}`} title={[s.title, ...(s.detail ?? [])].join("\n")}>
              {s.title}
            </span>
            <span className="figures quiet">{s.there ? "there" : s.millis ? seconds(s.millis) : ""}</span>
            <span className="col-span-2 h-1" aria-hidden>
              {!s.there && s.millis && <span className="block h-0.5 bg-primary" style={{ width: `${(100 * s.millis) / longest}%` }} />}
            </span>
          </li>
        ))}
      </ol>
      <TroubleNote error={plan.error} />
    </section>
  );
}
