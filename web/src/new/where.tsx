import { useState, type FormEvent } from "react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api } from "../api/client";
import { AsCommand } from "../frame/copy";
import { TroubleNote } from "../frame/trouble";
import { amount, sizeWords } from "../frame/amount";
import { Plan } from "./plan";

function suggested(source: string): string {
  const last = source.replace(/\/+$/, "").replace(/\.git$/, "").split(/[/:]/).pop() ?? "";
  return last.toLowerCase().replace(/[^a-z0-9]+/g, "-").replace(/^-+|-+$/g, "").slice(0, 40);
}

/** Where and how big, with the plan, and the one button that begins. */
export function Where({ source, at, file }: { source: string; at: string; file?: string }) {
  const navigate = useNavigate();
  const sites = useQuery({ queryKey: ["sites"], queryFn: api.sites });
  const [name, setName] = useState(() => suggested(source));
  const [site, setSite] = useState("");
  const [size, setSize] = useState("");
  const [mount, setMount] = useState(false);
  const folder = source.startsWith("/");
  const make = useMutation({
    mutationFn: () => api.provision({ source, ref: at || undefined, name: name.trim(), file, site: site || undefined, size: size || undefined, mount: mount || undefined }),
    onSuccess: (w) => navigate(`/workspaces/${w.name}`),
  });
  const prepare = useMutation({ mutationFn: () => api.prepare({ source, ref: at || undefined, file, site: site || undefined, size: size || undefined, follow: true }), onSuccess: () => navigate("/sites") });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate();
  };
  const open = sites.data?.filter((s) => !s.drained) ?? [];
  const several = open.length > 1;
  const sizes = open[0]?.sizes ?? [];
  return (
    <form onSubmit={submit} className="flex flex-col gap-4">
      <fieldset>
        <legend className="quiet mb-1 text-sm">Site</legend>
        {several && (
          <label className="flex items-start gap-2">
            <input type="radio" name="site" className="radio radio-sm mt-1" checked={site === ""} onChange={() => setSite("")} />
            <span>Where it fits best</span>
          </label>
        )}
        {open.map((s) => (
          <label key={s.name} className="flex items-start gap-2">
            <input type="radio" name="site" className="radio radio-sm mt-1" checked={!several || site === s.name} onChange={() => setSite(s.name)} disabled={!s.ready} />
            <span className={s.ready ? "" : "quiet"}>
              {s.name}
              <span className="quiet block text-sm">{s.ready ? `${s.processors} processors, ${amount(s.memoryBytes ?? 0)} memory` : "not ready: Sites says why"}</span>
            </span>
          </label>
        ))}
        <TroubleNote error={sites.error} />
      </fieldset>
      {sizes.length > 0 && (
        <label className="flex flex-col gap-1">
          Size
          <select className="select w-full" name="size" value={size} onChange={(e) => setSize(e.target.value)}>
            <option value="">as the definition says</option>
            {sizes.map((s) => (
              <option key={s.name} value={s.name}>
                {s.name}: {sizeWords(s)}
              </option>
            ))}
          </select>
        </label>
      )}
      {folder && (
        <label className="flex items-start gap-2">
          <input type="checkbox" className="checkbox checkbox-sm mt-1" checked={mount} onChange={(e) => setMount(e.target.checked)} />
          <span>Mount the folder in place instead of copying it</span>
        </label>
      )}
      <label className="flex flex-col gap-1">
        Name
        <input className="input w-full" name="name" required value={name} onChange={(e) => setName(e.target.value)} />
      </label>
      <button className="btn btn-primary" disabled={make.isPending}>
        {make.isPending ? "One moment …" : "Make the workspace"}
      </button>
      {!folder && (
        <button type="button" className="btn" onClick={() => prepare.mutate()} disabled={prepare.isPending} title="Image and content are made ready now, and again whenever the branch moves; making a workspace then begins with them.">
          Prepare it ahead
        </button>
      )}
      <TroubleNote error={make.error ?? prepare.error} />
      <AsCommand>{`domicile provision ${source}${at ? ` -ref ${at}` : ""} -name ${name}${file ? ` -file ${file}` : ""}${site && several ? ` -site ${site}` : ""}${size ? ` -size ${size}` : ""}${mount ? " -mount" : ""}`}</AsCommand>
      <Plan source={source} at={at} file={file} site={site} size={size} />
    </form>
  );
}
