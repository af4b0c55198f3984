import { useState, type FormEvent } from "react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api } from "../api/client";
import { TroubleNote } from "../frame/trouble";
import { makeKey, type KeyPair } from "./key";

const steps = ["Name and password", "Your key", "A repository"];

/** The way from the first account to the first workspace: what is left of it is a key and an address. */
export function Welcome() {
  const [step, setStep] = useState(1);
  return (
    <div className="mx-auto max-w-2xl">
      <title>Welcome – Domicile</title>
      <ol className="flex flex-wrap gap-x-8 gap-y-2" aria-label="Steps">
        {steps.map((name, i) => (
          <li key={name} aria-current={i === step ? "step" : undefined} className={i === step ? "border-b-2 border-primary pb-1 font-semibold" : "quiet pb-1"}>
            {i + 1}. {name}
            {i < step && <span className="sr-only">, done</span>}
          </li>
        ))}
      </ol>
      {step === 1 ? <KeyStep done={() => setStep(2)} /> : <RepositoryStep />}
    </div>
  );
}

function KeyStep({ done }: { done: () => void }) {
  const account = useQuery({ queryKey: ["account"], queryFn: api.account });
  const [line, setLine] = useState("");
  const [made, setMade] = useState<KeyPair>();
  const add = useMutation({ mutationFn: (key: string) => api.addKey(key), onSuccess: () => !made && done() });
  const make = useMutation({
    mutationFn: async () => {
      const key = await makeKey(account.data?.name ?? "domicile");
      await api.addKey(key.publicLine);
      return key;
    },
    onSuccess: setMade,
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    add.mutate(line);
  };
  if (made) return <MadeKey made={made} done={done} />;
  return (
    <section className="plate mt-6 p-8" aria-labelledby="key-step">
      <h1 id="key-step" className="text-2xl font-semibold">
        How you get in
      </h1>
      <p className="mt-2">SSH clients and editors come in with a key. The console, and the command line with its usher, need none.</p>
      <form className="mt-6 flex flex-col gap-3" onSubmit={submit}>
        <label className="flex flex-col gap-1">
          Your public key, such as the line in ~/.ssh/id_ed25519.pub
          <textarea className="textarea w-full font-mono" rows={3} value={line} onChange={(e) => setLine(e.target.value)} placeholder="ssh-ed25519 AAAA…" />
        </label>
        <TroubleNote error={add.error ?? make.error} />
        <div className="flex flex-wrap gap-3">
          <button className="btn btn-primary" disabled={!line.trim() || add.isPending}>
            Use this key
          </button>
          <button type="button" className="btn" onClick={() => make.mutate()} disabled={make.isPending}>
            Make one for me
          </button>
          <button type="button" className="btn btn-ghost" onClick={done}>
            Later
          </button>
        </div>
      </form>
    </section>
  );
}

function MadeKey({ made, done }: { made: KeyPair; done: () => void }) {
  const file = `data:application/octet-stream;base64,${btoa(made.privateKey)}`;
  return (
    <section className="plate mt-6 p-8" aria-labelledby="made-key">
      <h1 id="made-key" className="text-2xl font-semibold">
        Keep your key
      </h1>
      <p className="mt-2">It was made in this browser, which forgets it with this page. The service has its public half alone.</p>
      <div className="mt-6 flex flex-wrap items-center gap-3">
        <a className="btn btn-primary" href={file} download="domicile_key">
          Save the key
        </a>
        <button type="button" className="btn" onClick={done}>
          It is saved
        </button>
      </div>
      <p className="quiet mt-4">
        Then put it where ssh finds it: <code className="font-mono">mkdir -p ~/.ssh && mv -n ~/Downloads/domicile_key ~/.ssh/id_ed25519 && chmod 600 ~/.ssh/id_ed25519</code> (one of that name that you have stays).
      </p>
    </section>
  );
}

function RepositoryStep() {
  const [source, setSource] = useState("");
  const navigate = useNavigate();
  const read = (from: string) => void navigate(`/new?source=${encodeURIComponent(from)}&read`);
  const example = useMutation({ mutationFn: api.makeExample, onSuccess: (x) => read(x.source) });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    read(source.trim());
  };
  return (
    <section className="plate mt-6 p-8" aria-labelledby="repository-step">
      <h1 id="repository-step" className="text-2xl font-semibold">
        What to work on
      </h1>
      <p className="mt-2">The address of a repository. If it carries a dev container definition, that is read; if not, one is drafted from what it shows. Nothing is made before you have seen it.</p>
      <form className="mt-6 flex flex-col gap-3" onSubmit={submit}>
        <label className="flex flex-col gap-1">
          Address
          <input className="input w-full font-mono" name="source" value={source} onChange={(e) => setSource(e.target.value)} placeholder="https://…/timetable.git" autoFocus />
        </label>
        <div className="flex flex-wrap gap-3">
          <button className="btn btn-primary" disabled={!source.trim()}>
            Read it
          </button>
          <button type="button" className="btn" onClick={() => example.mutate()} disabled={example.isPending}>
            Try a small example
          </button>
          <button type="button" className="btn btn-ghost" onClick={() => void navigate("/")}>
            Look around first
          </button>
        </div>
        <TroubleNote error={example.error} />
        <p className="quiet">The example is made of the programs of the service's own machine. It needs no network.</p>
      </form>
    </section>
  );
}
