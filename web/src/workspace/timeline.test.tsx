import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { api, type LogLine, type Run, type Step } from "../api/client";
import { Timeline } from "./timeline";

const at = (seconds: number) => new Date(Date.UTC(2026, 3, 1, 8, 0, seconds)).toISOString();
const step = (position: number, name: string, state: Step["state"], more: Partial<Step> = {}): Step => ({ position, name, title: `Do ${name}`, state, attempts: 1, started: at(position), ended: at(position + 1), ...more });
const line = (number: number, step: number, text: string): LogLine => ({ number, step, at: at(0), text });
const run = (...steps: Step[]): Run => ({ id: 7, workspace: "deck", kind: "provision", state: "failed", created: at(0), steps });

let lines: LogLine[] = [];
beforeEach(() => {
  vi.spyOn(api, "log").mockImplementation(async (_run, after) => ({ lines: lines.filter((l) => l.number > after) }));
});
afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

describe("a run's timeline", () => {
  it("opens the step that failed, with its reason and its lines", async () => {
    lines = [line(1, 0, "fetched"), line(2, 1, "no chart here")];
    render(<Timeline run={run(step(0, "fetch", "done"), step(1, "postCreateCommand", "failed", { reason: "exit status 3" }))} />);
    await waitFor(() => expect(screen.getByText("no chart here")).toBeTruthy());
    expect(screen.getByText("exit status 3")).toBeTruthy();
    expect(screen.queryByText("fetched")).toBeNull();
  });
  it("opens and shuts a step on request", async () => {
    lines = [line(1, 0, "fetched")];
    render(<Timeline run={run(step(0, "fetch", "done"))} />);
    const button = screen.getByRole("button");
    await waitFor(() => expect(button.hasAttribute("disabled")).toBe(false));
    expect(button.getAttribute("aria-expanded")).toBe("false");
    fireEvent.click(button);
    expect(screen.getByText("fetched")).toBeTruthy();
    fireEvent.click(button);
    expect(screen.queryByText("fetched")).toBeNull();
  });
  it("tells the state in a word and the time in figures", () => {
    lines = [];
    render(<Timeline run={run(step(0, "fetch", "skipped"), step(1, "image", "waiting", { started: undefined, ended: undefined }))} />);
    expect(screen.getByText("skipped")).toBeTruthy();
    expect(screen.getByText("1.0 s")).toBeTruthy();
    expect(screen.getByText("waiting")).toBeTruthy();
  });
  it("reads a long log in parts, each line once", async () => {
    lines = Array.from({ length: 1500 }, (_, i) => line(i + 1, 0, `line ${i + 1}`));
    vi.mocked(api.log).mockImplementation(async (_run, after) => ({ lines: lines.filter((l) => l.number > after).slice(0, 400) }));
    render(<Timeline run={run(step(0, "fetch", "failed"))} />);
    await waitFor(() => expect(screen.getByText("line 1500")).toBeTruthy());
    expect(screen.getByText("… 500 earlier lines")).toBeTruthy();
    expect(screen.getAllByText(/^line \d+$/)).toHaveLength(1000);
  });
});
