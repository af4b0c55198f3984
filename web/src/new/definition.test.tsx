import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { Definition } from "./definition";
import type { Report } from "./report";

afterEach(cleanup);

const file = ".devcontainer/devcontainer.json";

describe("a definition as it was read", () => {
  it("has each problem under its line", () => {
    const report: Report = { file, makes: [{ what: "system", text: "the image base:12" }], floating: [{ kind: "image", reference: "base:12", why: "a tag may be moved" }], problems: [{ severity: "error", code: "wrong-type", message: "remoteUser must be a string, not a number", file, line: 3, column: 17 }] };
    render(<Definition report={report} text={'{\n  "image": "base:12",\n  "remoteUser": 7\n}'} onChoose={() => {}} />);
    const text = screen.getByRole("region", { name: "The definition's text" }).textContent ?? "";
    expect(text.indexOf('"remoteUser": 7')).toBeLessThan(text.indexOf("must be a string"));
    expect(text.indexOf("must be a string")).toBeLessThan(text.indexOf("4}"));
    expect(screen.getByText(/the image base:12/)).toBeTruthy();
    expect(screen.getByText(/a tag may be moved/)).toBeTruthy();
  });
  it("lets the person choose among several", () => {
    const choose = vi.fn();
    const report: Report = { makes: [], problems: [{ severity: "error", code: "several-definitions", message: "the repository has several definitions, choose one: .devcontainer/a/devcontainer.json, .devcontainer/b/devcontainer.json" }], floating: [] };
    render(<Definition report={report} text="" onChoose={choose} />);
    fireEvent.click(screen.getByRole("button", { name: ".devcontainer/b/devcontainer.json" }));
    expect(choose).toHaveBeenCalledWith(".devcontainer/b/devcontainer.json");
  });
});
