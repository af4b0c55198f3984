import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { api, Trouble, type Site, type Workspace } from "../api/client";
import { Move } from "./move";

const deck: Workspace = { id: 1, name: "deck", source: "https://git.skerry.test/deck.git", state: "ready", site: "this-host", created: "2026-04-01T08:00:00Z", lastUsed: "2026-04-01T08:00:00Z", ports: [] };
const site = (name: string, more: Partial<Site> = {}): Site => ({ name, kind: "engine", ready: true, workspaces: 0, ...more });

function shown(sites: Site[], workspace = deck) {
  vi.spyOn(api, "sites").mockResolvedValue(sites);
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <Move workspace={workspace} />
    </QueryClientProvider>,
  );
}

beforeEach(() => {
  HTMLDialogElement.prototype.showModal = function () {
    this.open = true;
  };
});
afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

describe("a move", () => {
  it("goes to a site that takes something, with a size that it has", async () => {
    const move = vi.spyOn(api, "move").mockRejectedValue(new Trouble({ title: "the site quay has no device /dev/tide", status: 422, code: "site-cannot" }));
    shown([site("this-host"), site("reef", { ready: false }), site("old", { drained: true }), site("quay", { sizes: [{ name: "small", cpus: 1, memoryBytes: 2 ** 30 }] }), site("shoal"), site("machines", { kind: "vm" })].reverse());
    fireEvent.click(await screen.findByRole("button", { name: "Move …" }));
    const where = screen.getAllByRole<HTMLSelectElement>("combobox")[0]!;
    expect([...where.options].map((o) => o.value)).toEqual(["machines", "shoal", "quay"]);
    fireEvent.change(where, { target: { value: "quay" } });
    fireEvent.change(screen.getAllByRole("combobox")[1]!, { target: { value: "small" } });
    expect(screen.getByText(/domicile move deck -site quay -size small/)).toBeTruthy();
    expect(move).not.toHaveBeenCalled();
    fireEvent.click(screen.getByRole("button", { name: "Move it" }));
    await waitFor(() => expect(move).toHaveBeenCalledWith("deck", "quay", "small"));
    expect(await screen.findByText("the site quay has no device /dev/tide")).toBeTruthy();
    fireEvent.change(where, { target: { value: "shoal" } });
    fireEvent.click(screen.getByRole("button", { name: "Move it" }));
    await waitFor(() => expect(move).toHaveBeenLastCalledWith("deck", "shoal", undefined));
  });
  it("goes out of a machine of its own, too", async () => {
    shown([site("this-host", { kind: "vm" }), site("quay")]);
    fireEvent.click(await screen.findByRole("button", { name: "Move …" }));
    expect(screen.getByText("domicile move deck -site quay")).toBeTruthy();
  });
  it("makes one that is lost anew from what was kept of it", async () => {
    const move = vi.spyOn(api, "move").mockResolvedValue(deck);
    shown([site("this-host", { ready: false }), site("quay")], { ...deck, state: "lost", kept: { site: "quay", created: "2026-04-01T07:00:00Z" } });
    fireEvent.click(await screen.findByRole("button", { name: "Make it anew …" }));
    expect(screen.getByText("domicile move deck -site quay -from-kept")).toBeTruthy();
    expect(screen.getByText(/What was changed in it since then is missing/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Make it anew" }));
    await waitFor(() => expect(move).toHaveBeenCalledWith("deck", "quay", undefined, true));
  });
  it("is not offered where there is but one site", async () => {
    shown([site("this-host")]);
    await waitFor(() => expect(api.sites).toHaveBeenCalled());
    expect(screen.queryByRole("button", { name: "Move …" })).toBeNull();
  });
});
