import { Fragment } from "react";
import type { Report, ReportProblem } from "./report";

/** What a definition makes, its text with the problems at their lines, and what floats. */
export function Definition({ report, text, onChoose }: { report: Report; text: string; onChoose: (file: string) => void }) {
  const general = report.problems.filter((p) => !p.line);
  const elsewhere = report.problems.filter((p) => p.line && p.file !== report.file);
  const several = general.find((p) => p.code === "several-definitions");
  return (
    <div className="flex flex-col gap-6">
      {general.map((p) => (
        <Problem key={p.code} problem={p} />
      ))}
      {several && <Choices message={several.message} onChoose={onChoose} />}
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1">
        {report.makes.map((fact, i) => (
          <Fragment key={i}>
            <dt className="quiet">{fact.what === report.makes[i - 1]?.what ? "" : fact.what}</dt>
            <dd className="break-words">
              {fact.text} {fact.from && <span className="quiet text-sm">{fact.from}</span>}
            </dd>
          </Fragment>
        ))}
      </dl>
      {elsewhere.map((p, i) => (
        <div key={i}>
          <p className="quiet text-sm">
            {p.file}:{p.line}
          </p>
          {p.excerpt && <pre className="overflow-x-auto bg-base-200 px-3 py-1 text-sm">{p.excerpt}</pre>}
          <Problem problem={p} />
        </div>
      ))}
      {text && <Text report={report} text={text} />}
      {report.floating.length > 0 && (
        <section aria-label="Not pinned">
          <p className="font-semibold">Not pinned</p>
          <ul className="text-sm">
            {report.floating.map((f) => (
              <li key={f.kind + f.reference}>
                {f.kind} <span className="break-all">{f.reference}</span> <span className="quiet">{f.why}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

function Choices({ message, onChoose }: { message: string; onChoose: (file: string) => void }) {
  const files = (message.split(": ")[1] ?? "").split(", ").filter(Boolean);
  return (
    <ul className="flex flex-col gap-2">
      {files.map((f) => (
        <li key={f}>
          <button type="button" className="btn btn-sm" onClick={() => onChoose(f)}>
            {f}
          </button>
        </li>
      ))}
    </ul>
  );
}

function Text({ report, text }: { report: Report; text: string }) {
  return (
    <figure>
      <figcaption className="quiet text-sm">{report.file}</figcaption>
      <div className="max-h-112 overflow-auto bg-base-200 py-2 font-mono text-sm" tabIndex={0} role="region" aria-label="The definition's text">
        {text.split("\n").map((line, i) => {
          const here = report.problems.filter((p) => p.line === i + 1 && p.file === report.file);
          return (
            <Fragment key={i}>
              <div className="flex gap-4 px-3">
                <span className="quiet figures w-8 shrink-0 text-right select-none">{i + 1}</span>
                <span className="whitespace-pre">{line || "\u00a0"}</span>
              </div>
              {here.map((p) => (
                <div key={p.code + p.column} className="py-1 pr-3 pl-12 font-sans">
                  <Problem problem={p} />
                </div>
              ))}
            </Fragment>
          );
        })}
      </div>
    </figure>
  );
}

function Problem({ problem: p }: { problem: ReportProblem }) {
  const line = p.severity === "error" ? "border-error" : p.severity === "warning" ? "border-warning" : "border-base-300";
  return (
    <p className={`border-l-4 ${line} bg-base-100 px-3 py-1`}>
      <span className="font-semibold">{p.severity}</span>
      {p.column ? `, column ${p.column}` : ""}: {p.message}
      {p.suggestion && <span className="block">Instead: {p.suggestion}</span>}
    </p>
  );
}
