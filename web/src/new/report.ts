/** The answer of `domicile check -json`, as far as the console shows it. */
export type Report = {
  file?: string;
  kind?: string;
  effective?: Record<string, unknown>;
  problems: ReportProblem[];
  floating: { kind: string; reference: string; why: string }[];
};

export type ReportProblem = {
  severity: "error" | "warning" | "note";
  code: string;
  message: string;
  file?: string;
  line?: number;
  column?: number;
  suggestion?: string;
};

const stages = ["onCreateCommand", "updateContentCommand", "postCreateCommand", "postStartCommand", "postAttachCommand"];

/** What a definition makes, in words, a row each. */
export function rows(r: Report): [string, string][] {
  const e = r.effective ?? {};
  const out: [string, string][] = [];
  const add = (name: string, value: unknown) => {
    if (typeof value === "string" && value) out.push([name, value]);
  };
  add("name", e.name);
  add("made from", e.image ?? r.kind);
  add("user", e.remoteUser);
  add("folder", e.workspaceFolder);
  const attributes = (e.portsAttributes ?? {}) as Record<string, { label?: string }>;
  for (const port of (e.forwardPorts ?? []) as (number | string)[]) add(`port ${port}`, attributes[String(port)]?.label ?? "forwarded");
  for (const stage of stages) for (const c of (e[stage] ?? []) as { command: unknown }[]) add(stage, inWords(c.command));
  return out;
}

function inWords(command: unknown): string {
  if (typeof command === "string") return command;
  if (Array.isArray(command)) return command.join(" ");
  return Object.entries((command ?? {}) as Record<string, unknown>)
    .map(([name, c]) => `${name}: ${inWords(c)}`)
    .join("; ");
}
