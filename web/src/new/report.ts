/** The answer of `domicile check -json`, as far as the console shows it. */
export type Report = {
  file?: string;
  makes: { what: string; text: string; from?: string }[];
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
  excerpt?: string;
};
