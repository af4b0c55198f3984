export type Theme = "daylight" | "lamplight" | "system";

const dark = () => typeof matchMedia === "function" && matchMedia("(prefers-color-scheme: dark)").matches;

export function chosenTheme(): Theme {
  const kept = localStorage.getItem("theme");
  return kept === "daylight" || kept === "lamplight" ? kept : "system";
}

/** Follows the system unless a theme was chosen. */
export function applyTheme(chosen: Theme = chosenTheme()) {
  if (chosen === "system") localStorage.removeItem("theme");
  else localStorage.setItem("theme", chosen);
  document.documentElement.dataset.theme = chosen === "system" ? (dark() ? "lamplight" : "daylight") : chosen;
}
