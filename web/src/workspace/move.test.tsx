import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { api, Trouble, type Site, type Workspace } from "../api/client";
import { Move } from "./move";

const deck: Workspace = { id: 1, name: "deck", source: "https://git.skerry.test/deck.git", state: "ready", site: "this-host", created: "2026-04-01T08:00:00Z", lastUsed: "2026-04-01T08:00:00Z", ports: [] };
const site = (name: string, more: Partial<Site> = {}): Site => ({ name, kind: "engine", ready: true, workspaces: 0, ...more });

function shown(sites: Site[]) {
  vi.spyOn(api, "sites").mockResolvedValue(sites);
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <Move workspace={deck} />
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
    expect([...where.options].map((o) => o.value)).toEqual(["shoal", "quay", "machines"]);
    expect(screen.queryByText(/gives nothing back yet/)).toBeNull();
    fireEvent.change(where, { target: { value: "machines" } });
    expect(screen.getByText(/gives nothing back yet/)).toBeTruthy();
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
  it("is not offered to what is in a machine of its own", async () => {
    shown([site("this-host", { kind: "vm" }), site("quay")]);
    await waitFor(() => expect(api.sites).toHaveBeenCalled());
    expect(screen.queryByRole("button", { name: "Move …" })).toBeNull();
  });
  it("is not offered where there is but one site", async () => {
    shown([site("this-host")]);
    await waitFor(() => expect(api.sites).toHaveBeenCalled());
    expect(screen.queryByRole("button", { name: "Move …" })).toBeNull();
  });
});
