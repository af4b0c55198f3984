import { useState, type ReactNode } from "react";
import { Link, NavLink } from "react-router";
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
      <main id="main" className="flex-1 py-6">
        {children}
      </main>
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
