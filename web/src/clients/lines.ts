import type { ClientProgram } from "../api/client";

export type System = ClientProgram["system"];

export const systemName: Record<System, string> = { linux: "Linux", macos: "macOS", windows: "Windows" };

/** What the visitor sits at, as far as the browser says. Browsers on Apple's own chips say Intel: there the newer one is taken. */
export function visitor(agent: string): { system: System; architecture: ClientProgram["architecture"] } {
  if (/Windows/.test(agent)) return { system: "windows", architecture: /ARM64/i.test(agent) ? "arm64" : "amd64" };
  if (/Mac OS X|Macintosh/.test(agent) && !/iPhone|iPad/.test(agent)) return { system: "macos", architecture: "arm64" };
  return { system: "linux", architecture: /aarch64|arm64/i.test(agent) ? "arm64" : "amd64" };
}

/** One line that fetches a program, checks its digest, and puts it where it is found. What does not have the digest is not kept. */
export function installLines(p: ClientProgram, origin: string): { install: string } {
  const from = `${origin}/clients/${p.file}`;
  if (p.system === "windows") {
    return {
      install: `$d="$env:LOCALAPPDATA\\Domicile"; mkdir -Force $d >$null; Invoke-WebRequest ${from} -OutFile "$d\\new.exe"; if ((Get-FileHash "$d\\new.exe").Hash -eq "${p.sha256}") { Move-Item -Force "$d\\new.exe" "$d\\domicile.exe"; [Environment]::SetEnvironmentVariable("Path", [Environment]::GetEnvironmentVariable("Path","User") + ";$d", "User") } else { Remove-Item "$d\\new.exe"; "The digest is another one: nothing was installed" }`,
    };
  }
  const check = p.system === "macos" ? "shasum -a 256 -c" : "sha256sum -c";
  return {
    install: `mkdir -p ~/.local/bin && curl -fsS ${from} -o ~/.local/bin/domicile.new && echo "${p.sha256}  $HOME/.local/bin/domicile.new" | ${check} && chmod +x ~/.local/bin/domicile.new && mv ~/.local/bin/domicile.new ~/.local/bin/domicile`,
  };
}
