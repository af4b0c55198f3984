import { useState, type FormEvent } from "react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, type Site } from "../api/client";
import { AsCommand } from "../frame/copy";
import { TroubleNote } from "../frame/trouble";
import { amount, sizeWords } from "../frame/amount";
import { Plan } from "./plan";

function suggested(source: string): string {
  const last = source.replace(/\/+$/, "").replace(/\.git$/, "").split(/[/:]/).pop() ?? "";
  return last.toLowerCase().replace(/[^a-z0-9]+/g, "-").replace(/^-+|-+$/g, "").slice(0, 40);
}

const linesOf = (text: string) =>
  text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean);

/** A word as a shell takes it. */
const shellWord = (word: string) => (/^[\w.=:@/-]+$/.test(word) ? word : `'${word.split("'").join("'\\''")}'`);

/** Where and how big, with the plan, and the one button that begins. */
export function Where({ source, at, file }: { source: string; at: string; file?: string }) {
  const navigate = useNavigate();
  const sites = useQuery({ queryKey: ["sites"], queryFn: api.sites });
  const [name, setName] = useState(() => suggested(source));
  const [site, setSite] = useState("");
  const [size, setSize] = useState("");
  const [mount, setMount] = useState(false);
  const [keep, setKeep] = useState(0);
  const [varied, setVaried] = useState("");
  const [settled, setSettled] = useState(""); // it is planned when the writing is over
  const vary = linesOf(varied);
  const folder = source.startsWith("/");
  const make = useMutation({
    mutationFn: () => api.provision({ source, ref: at || undefined, name: name.trim(), file, site: site || undefined, size: size || undefined, mount: mount || undefined, vary: vary.length > 0 ? vary : undefined }),
    onSuccess: (w) => navigate(`/workspaces/${w.name}`),
  });
  const prepare = useMutation({ mutationFn: () => api.prepare({ source, ref: at || undefined, file, site: site || undefined, size: size || undefined, follow: true, keep: keep || undefined }), onSuccess: () => navigate("/sites") });
  const choose = (s: Site) => {
    setSite(s.name);
    if (!s.sizes?.some((has) => has.name === size)) setSize("");
  };
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate();
  };
  const open = sites.data?.filter((s) => !s.drained) ?? [];
  const several = open.length > 1;
  const chosen = open.filter((s) => site === "" || s.name === site).flatMap((s) => s.sizes ?? []);
  const sizes = chosen.filter((s, i) => chosen.findIndex((other) => other.name === s.name) === i);
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
            <input type="radio" name="site" className="radio radio-sm mt-1" checked={!several || site === s.name} onChange={() => choose(s)} disabled={!s.ready} />
            <span className={s.ready ? "" : "quiet"}>
              {s.name}
              <span className="quiet block text-sm">{s.ready ? whatSiteHas(s) : "not ready: Sites says why"}</span>
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
      <details>
        <summary className="cursor-pointer">Set to other values</summary>
        <label className="mt-2 flex flex-col gap-1">
          <span className="quiet text-sm">One a line, in place of what the file says: image=13, features.tide.harbour=Lamb Island, build.args.NAME=…, containerEnv.NAME=…</span>
          <textarea className="textarea w-full font-mono text-sm" rows={3} aria-label="Set to other values" value={varied} onChange={(e) => setVaried(e.target.value)} onBlur={() => setSettled(varied)} />
        </label>
      </details>
      <label className="flex flex-col gap-1">
        Name
        <input className="input w-full" name="name" required value={name} onChange={(e) => setName(e.target.value)} />
      </label>
      <button className="btn btn-primary" disabled={make.isPending}>
        {make.isPending ? "One moment …" : "Make the workspace"}
      </button>
      {!folder && (
        <label className="flex items-center gap-2">
          <span className="quiet grow text-sm">When it is prepared, kept warm for whoever comes</span>
          <input className="input w-16" type="number" min={0} max={20} name="keep" value={keep} onChange={(e) => setKeep(Number(e.target.value))} />
        </label>
      )}
      {!folder && (
        <button type="button" className="btn" onClick={() => prepare.mutate()} disabled={prepare.isPending} title="Image and content are made ready now, and again whenever the branch moves; making a workspace then begins with them.">
          Prepare it ahead
        </button>
      )}
      <TroubleNote error={make.error ?? prepare.error} />
      <AsCommand>{`domicile provision ${source}${at ? ` -ref ${at}` : ""} -name ${name}${file ? ` -file ${file}` : ""}${site && several ? ` -site ${site}` : ""}${size ? ` -size ${size}` : ""}${vary.map((v) => ` -vary ${shellWord(v)}`).join("")}${mount ? " -mount" : ""}`}</AsCommand>
      <Plan source={source} at={at} file={file} site={site} size={size} vary={linesOf(settled)} />
    </form>
  );
}

/** What a site has, and what its smallest size costs where sizes have prices. */
export function whatSiteHas(s: Site): string {
  const priced = (s.sizes ?? []).filter((x) => x.price);
  const [least] = priced.toSorted((a, b) => Number(a.price?.perHour) - Number(b.price?.perHour));
  const price = least?.price ? `; from ${least.price.perHour} ${least.price.currency} an hour, ${least.price.perMonth} a month` : "";
  return `${s.kind === "cloud" ? "up to " : ""}${s.processors} processors, ${amount(s.memoryBytes ?? 0)} memory${price}`;
}
