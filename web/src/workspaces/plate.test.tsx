import type { ReactNode } from "react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, describe, expect, it, vi } from "vitest";
import { api, Trouble, type Workspace } from "../api/client";
import { Attention } from "./attention";
import { Plate } from "./plate";
import { runningCost, Workspaces } from "./workspaces";

const workspace = (more: Partial<Workspace> = {}): Workspace => ({ id: 1, name: "deck", source: "https://git.skerry.test/skerry/deck.git", state: "ready", site: "this-host", created: new Date().toISOString(), lastUsed: new Date().toISOString(), ports: [], user: "crew", ...more });

function show(node: ReactNode) {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={client}>
      <MemoryRouter>{node}</MemoryRouter>
    </QueryClientProvider>,
  );
}

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

describe("a plate", () => {
  it("says what, where, who and how it is", () => {
    show(<Plate workspace={workspace({ ref: "winter" })} />);
    const plate = screen.getByRole("article", { name: "deck" });
    expect(plate.textContent).toContain("ready");
    expect(plate.textContent).toContain("git.skerry.test/skerry/deck at winter");
    expect(plate.textContent).toContain("on this-host, as crew");
  });
  it("shows how far a run is while it goes on, and only then", () => {
    const step = (position: number, state: "done" | "running" | "waiting") => ({ position, name: "x", title: `Step ${position}`, state, attempts: 1 });
    const run = { id: 1, workspace: "deck", kind: "provision" as const, state: "running" as const, created: "", steps: [step(0, "done"), step(1, "running"), step(2, "waiting")] };
    show(<Plate workspace={workspace({ state: "making", run })} />);
    expect(screen.getByText("Step 1")).toBeTruthy();
    expect(screen.getByText("1 of 3")).toBeTruthy();
    cleanup();
    show(<Plate workspace={workspace({ run })} />);
    expect(screen.queryByText("1 of 3")).toBeNull();
  });
});

describe("what needs a person", () => {
  it("is what failed or is out of reach, with one next action", async () => {
    const again = vi.spyOn(api, "provision").mockRejectedValue(new Trouble({ title: "A run is under way", status: 409, code: "busy" }));
    show(<Attention list={[workspace(), workspace({ id: 2, name: "cabin", state: "failed", goesOn: true, reason: "no chart here", file: ".devcontainer.json" })]} />);
    expect(screen.queryByText("deck")).toBeNull();
    expect(screen.getByText("no chart here")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Go on from there" }));
    await waitFor(() => expect(screen.getByRole("alert").textContent).toContain("A run is under way"));
    expect(again).toHaveBeenCalledWith({ source: workspace().source, ref: undefined, name: "cabin", file: ".devcontainer.json" });
  });
  it("is corrected where going on would find the same", () => {
    show(<Attention list={[workspace({ name: "cabin", state: "failed", goesOn: false, reason: "there is no branch winter", ref: "winter" })]} />);
    expect(screen.queryByRole("button", { name: "Go on from there" })).toBeNull();
    expect(screen.getByRole("link", { name: "Correct the address" }).getAttribute("href")).toBe(`/new?${new URLSearchParams({ source: workspace().source, ref: "winter" })}`);
  });
  it("says so when there is nothing", () => {
    show(<Attention list={[workspace({ state: "stopped" })]} />);
    expect(screen.getByText(/^Nothing\./)).toBeTruthy();
  });
});

describe("the workspaces", () => {
  it("offer the one way to get the first", async () => {
    vi.spyOn(api, "workspaces").mockResolvedValue([]);
    show(<Workspaces />);
    await waitFor(() => expect(screen.getByRole("link", { name: "Make the first one" }).getAttribute("href")).toBe("/new"));
  });
  it("are filtered by words", async () => {
    vi.spyOn(api, "workspaces").mockResolvedValue([workspace(), workspace({ id: 2, name: "cabin", state: "stopped" })]);
    show(<Workspaces />);
    const filter = await screen.findByRole("searchbox");
    fireEvent.change(filter, { target: { value: "stopped" } });
    expect(screen.queryByRole("article", { name: "deck" })).toBeNull();
    expect(screen.getByRole("article", { name: "cabin" })).toBeTruthy();
    fireEvent.change(filter, { target: { value: "sunk" } });
    expect(screen.getByText(/None of your 2 workspaces/)).toBeTruthy();
  });
  it("say what is wrong when they cannot be had", async () => {
    vi.spyOn(api, "workspaces").mockRejectedValue(new Trouble({ title: "The service's database does not answer", status: 503, code: "database-unavailable", remedy: "try again in a moment" }));
    show(<Workspaces />);
    await waitFor(() => expect(screen.getByRole("alert").textContent).toContain("try again in a moment"));
  });
});

describe("what workspaces cost", () => {
  const priced = (perHour: string, currency: string, more: Partial<Workspace> = {}) => workspace({ price: { perHour, perMonth: "0", currency }, ...more });
  it("is told of those that run, by currency", () => {
    expect(runningCost([priced("0.02", "EUR"), priced("0.1", "EUR"), priced("1", "DKK"), priced("5", "EUR", { state: "stopped" }), workspace()])).toBe("1.00 DKK and 0.12 EUR");
    expect(runningCost([workspace()])).toBe("");
  });
});
