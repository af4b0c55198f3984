import { useEffect, useRef, useState, type ReactNode } from "react";
import { ErrorBoundary, type FallbackProps } from "react-error-boundary";
import { Link, NavLink, useLocation } from "react-router";
import { Moon, Sun, SunMoon } from "lucide-react";
import type { Account } from "../api/client";
import { applyTheme, chosenTheme, type Theme } from "./theme";

const places = [
  ["/", "Workspaces"],
  ["/new", "New"],
  ["/sites", "Sites"],
  ["/you", "You"],
  ["/team", "Team"],
] as const;

/** The frame of every page: where one is, where one can go, who one is. */
export function Frame({ account, onSignOut, children }: { account: Account; onSignOut: () => void; children: ReactNode }) {
  const { pathname } = useLocation();
  const main = useRef<HTMLElement>(null);
  const shown = useRef(pathname);
  useEffect(() => {
    if (shown.current === pathname) return; // the first page: the browser's own beginning
    shown.current = pathname;
    if (!main.current?.contains(document.activeElement)) main.current?.focus({ preventScroll: true }); // a terminal has it already
    window.scrollTo(0, 0);
  }, [pathname]);
  return (
    <div className="mx-auto flex min-h-screen max-w-7xl flex-col px-4 sm:px-8">
      <a href="#main" className="sr-only focus:not-sr-only">
        To the content
      </a>
      <header className="inked flex flex-wrap items-end gap-x-8 gap-y-2 border-b pt-6 pb-3">
        <Link to="/" className="flex items-end gap-2 text-2xl font-semibold tracking-tight">
          <img src="/door.svg" alt="" width="26" height="26" />
          Domicile
        </Link>
        <nav aria-label="Places" className="flex flex-wrap gap-6">
          {places.map(([to, name]) => (
            <NavLink key={to} to={to} end={to === "/"} className={({ isActive }) => (isActive ? "border-b-2 border-primary pb-1" : "quiet pb-1 hover:underline")}>
              {name}
            </NavLink>
          ))}
        </nav>
        <div className="ml-auto flex items-center gap-3 text-base">
          <ThemeSwitch />
          <span>{account.name}</span>
          <button type="button" className="quiet cursor-pointer hover:underline" onClick={onSignOut}>
            Sign out
          </button>
        </div>
      </header>
      <main id="main" ref={main} tabIndex={-1} className="flex-1 py-6 outline-none">
        <ErrorBoundary FallbackComponent={Broken} resetKeys={[pathname]}>
          {children}
        </ErrorBoundary>
      </main>
    </div>
  );
}

/** A page that could not be drawn. The rest of the console goes on. */
function Broken({ error, resetErrorBoundary }: FallbackProps) {
  return (
    <div role="alert" className="border-l-4 border-error bg-base-200 px-4 py-3">
      <title>A mistake – Domicile</title>
      <h1 className="text-xl font-semibold">This page could not be drawn</h1>
      <p className="mt-1">The mistake is the console's own; nothing was changed by it. The command line can do all that this page does.</p>
      <pre className="mt-2 overflow-auto font-mono text-sm whitespace-pre-wrap">{error instanceof Error ? error.message : String(error)}</pre>
      <button type="button" className="btn btn-sm mt-3" onClick={resetErrorBoundary}>
        Draw it again
      </button>
    </div>
  );
}

const nextTheme: Record<Theme, Theme> = { system: "daylight", daylight: "lamplight", lamplight: "system" };
const icons = { system: SunMoon, daylight: Sun, lamplight: Moon };

function ThemeSwitch() {
  const [theme, setTheme] = useState(chosenTheme);
  const Icon = icons[theme];
  const change = () => {
    applyTheme(nextTheme[theme]);
    setTheme(nextTheme[theme]);
  };
  return (
    <button type="button" className="btn btn-ghost btn-sm" onClick={change} title={`Theme: ${theme}`} aria-label={`Theme: ${theme}. Change it`}>
      <Icon size={18} aria-hidden />
    </button>
  );
}
