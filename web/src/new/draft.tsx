import { useEffect, useState } from "react";
import { useMutation } from "@tanstack/react-query";
import { api } from "../api/client";
import { TroubleNote } from "../frame/trouble";

/** For a repository without a definition: what was seen in it, and what could be written. */
export function Draft({ source, at }: { source: string; at: string }) {
  const draft = useMutation({ mutationFn: () => api.draft({ source, ref: at || undefined }) });
  const [chosen, setChosen] = useState<string>();
  const { mutate } = draft;
  useEffect(() => mutate(), [mutate, source, at]);
  if (draft.error) return <TroubleNote error={draft.error} />;
  if (!draft.data) return <p className="quiet">Looking at the repository …</p>;
  const way = draft.data.ways.find((w) => w.name === chosen) ?? draft.data.ways[0];
  return (
    <div className="flex flex-col gap-6">
      <p>The repository has no definition. This was drafted from what it shows; put it into the repository to use it.</p>
      <fieldset className="flex flex-col gap-2">
        <legend className="quiet mb-1 text-sm">Ways it could be meant</legend>
        {draft.data.ways.map((w) => (
          <label key={w.name} className="flex items-start gap-2">
            <input type="radio" name="way" className="radio radio-sm mt-1" checked={w.name === way?.name} onChange={() => setChosen(w.name)} />
            <span>
              {w.name}, {w.sure}
              <span className="quiet block text-sm">{w.why}</span>
            </span>
          </label>
        ))}
      </fieldset>
      {way && (
        <figure>
          <figcaption className="quiet text-sm">.devcontainer/devcontainer.json</figcaption>
          <pre className="max-h-96 overflow-auto bg-base-200 p-3 text-sm" tabIndex={0} aria-label="The draft">
            {way.text}
          </pre>
        </figure>
      )}
      <section aria-labelledby="seen">
        <h3 id="seen" className="font-semibold">
          What was seen
        </h3>
        <ul className="text-sm">
          {draft.data.seen.map((s, i) => (
            <li key={i}>
              {s.what} {s.value}{" "}
              <span className="quiet">
                {s.file}
                {s.line ? `:${s.line}` : ""}, {s.sure}
              </span>
            </li>
          ))}
        </ul>
      </section>
    </div>
  );
}
