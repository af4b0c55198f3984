import { type FormEvent, useEffect, useRef, useState } from "react";
import { useMutation } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api } from "../api/client";
import { TroubleNote } from "../frame/trouble";
import { Definition } from "./definition";
import { Draft } from "./draft";
import type { Report } from "./report";
import { Where } from "./where";

/** Three questions, left to right: from where, what it says, where. */
export function New() {
  const [given] = useSearchParams(); // of one whose address is to be corrected
  const [source, setSource] = useState(given.get("source") ?? "");
  const [ref, setRef] = useState(given.get("ref") ?? "");
  const [file, setFile] = useState<string>();
  const check = useMutation({ mutationFn: (chosen?: string) => api.check({ source: source.trim(), ref: ref.trim() || undefined, file: chosen }) });
  const begun = useRef(false);
  useEffect(() => {
    if (given.get("read") === null || !source.trim() || begun.current) return; // it was asked for where one comes from
    begun.current = true;
    check.mutate(undefined);
  });
  const report = check.data?.report as Report | undefined;
  const read = (e: FormEvent) => {
    e.preventDefault();
    setFile(undefined);
    check.mutate(undefined);
  };
  const choose = (chosen: string) => {
    setFile(chosen);
    check.mutate(chosen);
  };
  return (
    <div className="grid gap-8 lg:grid-cols-[17rem_minmax(0,1fr)_17rem]">
      <title>New – Domicile</title>
      <form onSubmit={read} className="flex flex-col gap-4" aria-labelledby="where-from">
        <h1 id="where-from" className="text-xl font-semibold">
          From where
        </h1>
        <label className="flex flex-col gap-1">
          Repository or folder
          <input className="input w-full" name="source" required placeholder="https://…/timetable.git" value={source} onChange={(e) => setSource(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1">
          Branch, tag or commit
          <input className="input w-full" name="ref" placeholder="the repository's own branch" value={ref} onChange={(e) => setRef(e.target.value)} />
        </label>
        <button className="btn btn-primary" disabled={check.isPending || !source.trim()}>
          {check.isPending ? "Reading …" : "Read its definition"}
        </button>
        <TroubleNote error={check.error} />
      </form>
      <section className="inked min-w-0 lg:border-l lg:pl-8" aria-labelledby="says" aria-busy={check.isPending}>
        <h2 id="says" className="mb-4 text-xl font-semibold">
          What it says
        </h2>
        {report?.problems.some((p) => p.code === "no-definition" && !p.file) ? (
          <Draft source={source.trim()} at={ref.trim()} />
        ) : report && check.data ? (
          <Definition report={report} text={check.data.text} onChoose={choose} />
        ) : (
          <p className="quiet">The definition will stand here, with what it makes and what is wrong with it.</p>
        )}
      </section>
      <section className="inked lg:border-l lg:pl-8" aria-labelledby="place">
        <h2 id="place" className="mb-4 text-xl font-semibold">
          Where
        </h2>
        {report && !report.problems.some((p) => p.severity === "error") ? <Where key={source + ref} source={source.trim()} at={ref.trim()} file={file} /> : <p className="quiet">The sites that can hold it.</p>}
      </section>
    </div>
  );
}
