import { useState } from "react";
import { Check, Copy } from "lucide-react";

/** A line of text that one click copies. */
export function CopyLine({ text, label }: { text: string; label: string }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setCopied(true);
    setTimeout(() => setCopied(false), 1500);
  };
  return (
    <div>
      <div className="quiet text-sm">{label}</div>
      <div className="flex items-start gap-1">
        <code className="min-w-0 flex-1 font-mono text-sm break-words">{text}</code>
        <button type="button" className="btn btn-ghost btn-xs" onClick={() => void copy()} aria-label={`Copy: ${label}`} title={copied ? "copied" : "copy"}>
          {copied ? <Check size={16} aria-hidden /> : <Copy size={16} aria-hidden />}
        </button>
        <span className="sr-only" aria-live="polite">
          {copied ? "copied" : ""}
        </span>
      </div>
    </div>
  );
}

/** The command line that does what a button does, shown on request. */
export function AsCommand({ children }: { children: string }) {
  return (
    <details className="text-sm">
      <summary className="quiet min-h-6 cursor-pointer py-1">as a command</summary>
      <code className="font-mono">{children}</code>
    </details>
  );
}
