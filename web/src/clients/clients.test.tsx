import { describe, expect, it } from "vitest";
import { installLines, visitor } from "./lines";

describe("the visitor's system", () => {
  it.each([
    ["Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36", "windows", "amd64"],
    ["Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15_7) AppleWebKit/605.1.15", "macos", "arm64"],
    ["Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101", "linux", "amd64"],
    ["Mozilla/5.0 (X11; Linux aarch64) AppleWebKit/537.36", "linux", "arm64"],
    ["something else", "linux", "amd64"],
  ])("%s", (agent, system, architecture) => {
    expect(visitor(agent)).toEqual({ system, architecture });
  });
});

describe("the line that installs", () => {
  const program = { file: "domicile-x", bytes: 1, sha256: "ab12", architecture: "amd64" as const };
  it("checks the digest before the program is put in its place", () => {
    const line = installLines({ ...program, system: "linux" }, "http://quay:4380").install;
    expect(line).toContain("curl -fsS http://quay:4380/clients/domicile-x");
    expect(line.indexOf("sha256sum -c")).toBeLessThan(line.indexOf("mv "));
    expect(line.indexOf("sha256sum -c")).toBeGreaterThan(0);
  });
  it("has each system's own words", () => {
    expect(installLines({ ...program, system: "macos" }, "x").install).toContain("shasum -a 256 -c");
    const windows = installLines({ ...program, system: "windows" }, "x").install;
    expect(windows).toContain('-eq "ab12"');
    expect(windows).toContain("Move-Item");
  });
});
