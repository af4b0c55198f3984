import { useState, type FormEvent } from "react";
import { useMutation } from "@tanstack/react-query";
import { AsCommand } from "./copy";
import { TroubleNote } from "./trouble";

export type Field = { name: string; label: string; secret?: boolean; optional?: boolean; placeholder?: string; lines?: number; first?: string };

/** A short form: its fields, one button, and the command that does the same. */
export function Entry({ fields, send, button, command, keep = false }: { fields: Field[]; send: (values: Record<string, string>) => Promise<unknown>; button: string; command?: (values: Record<string, string>) => string; keep?: boolean }) {
  const blank = Object.fromEntries(fields.map((f) => [f.name, f.first ?? ""]));
  const [values, setValues] = useState(blank);
  const mutation = useMutation({ mutationFn: () => send(values), onSuccess: () => setValues(keep ? values : blank) });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    mutation.mutate();
  };
  return (
    <form className="mt-3 flex flex-col gap-2" onSubmit={submit}>
      {fields.map((f) => {
        const common = { name: f.name, required: !f.optional, placeholder: f.placeholder, value: values[f.name], autoComplete: f.secret ? "new-password" : "off" };
        const typed = (text: string) => setValues({ ...values, [f.name]: text });
        return (
          <label key={f.name} className="flex flex-col gap-1">
            {f.label}
            {f.lines ? (
              <textarea {...common} rows={f.lines} className="textarea w-full font-mono text-sm" onChange={(e) => typed(e.target.value)} />
            ) : (
              <input {...common} type={f.secret ? "password" : "text"} className="input w-full" onChange={(e) => typed(e.target.value)} />
            )}
          </label>
        );
      })}
      <TroubleNote error={mutation.error} />
      <button className="btn self-start" disabled={mutation.isPending}>
        {mutation.isPending ? "One moment …" : button}
      </button>
      {command && <AsCommand>{command(values)}</AsCommand>}
    </form>
  );
}
