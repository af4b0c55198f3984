import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { api, Trouble, type Workspace } from "../api/client";
import { Beside } from "./beside";

const deck: Workspace = { id: 1, name: "deck", source: "https://git.skerry.test/deck.git", state: "ready", image: "quay.test/base:12", site: "this-host", created: "2026-04-01T08:00:00Z", lastUsed: "2026-04-01T08:00:00Z", ports: [] };

function shown(others: string[]) {
  vi.spyOn(api, "workspaces").mockResolvedValue([deck, ...others.map((name, i) => ({ ...deck, id: i + 2, name }))]);
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <Beside workspace={deck} />
    </QueryClientProvider>,
  );
}

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

describe("a workspace beside another", () => {
  it("tells what differs in the order it came, each reason once, and what one has not", async () => {
    const compare = vi.spyOn(api, "compare").mockResolvedValue({
      a: { name: "deck" },
      b: { name: "hold", unseen: "it is stopped" },
      differences: [{ kind: "check", name: "sailings", a: "holds", b: "does not hold", why: "this is what shows it" }, ...Array.from({ length: 10 }, (_, i) => ({ kind: "pip" as const, name: `six${i}`, a: "1.16", why: "by hand" }))],
      same: ["image", "tool"],
    });
    shown(["keel", "hold"]);
    await waitFor(() => expect(screen.getByRole("combobox")).toBeTruthy());
    expect(compare).not.toHaveBeenCalled();
    fireEvent.change(screen.getByRole("combobox"), { target: { value: "hold" } });
    fireEvent.click(screen.getByRole("button", { name: "Compare" }));
    await waitFor(() => expect(screen.getByText("This is what shows it")).toBeTruthy());
    expect(compare).toHaveBeenCalledWith("deck", "hold");
    expect(screen.getAllByText("By hand")).toHaveLength(1);
    expect(screen.queryByText("six9")).toBeNull();
    fireEvent.click(screen.getByRole("button", { name: "Show 2 more" }));
    const row = screen.getByText("six9").closest("li")!;
    expect(within(row).getByText("has none")).toBeTruthy();
    expect(screen.getByText("The same in both: image, tools.")).toBeTruthy();
    expect(screen.getByText(/Of hold not everything was compared: it is stopped/)).toBeTruthy();
  });
  it("is not offered to one who has but this one", async () => {
    shown([]);
    await waitFor(() => expect(api.workspaces).toHaveBeenCalled());
    expect(screen.queryByText("Beside another workspace")).toBeNull();
  });
  it("says what went wrong", async () => {
    vi.spyOn(api, "compare").mockRejectedValue(new Trouble({ title: "the workspace keel was never made", status: 409, code: "never-made", remedy: "provision it again" }));
    shown(["keel"]);
    await waitFor(() => expect(screen.getByRole("combobox")).toBeTruthy());
    fireEvent.click(screen.getByRole("button", { name: "Compare" }));
    await waitFor(() => expect(screen.getByText(/was never made/)).toBeTruthy());
  });
});
