import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { api, Trouble, type Workspace } from "../api/client";
import { Snapshots } from "./snapshots";
import { Drifted, Helpers, Rebuild, StopsSoon } from "./upkeep";

const deck: Workspace = { id: 1, name: "deck", source: "https://git.skerry.test/deck.git", state: "ready", site: "this-host", created: "2026-04-01T08:00:00Z", lastUsed: "2026-04-01T08:00:00Z", ports: [] };

function shown(what: ReactNode) {
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <MemoryRouter>{what}</MemoryRouter>
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

describe("a workspace that nobody uses", () => {
  it("says when it stops, and is kept by one click", async () => {
    const stay = vi.spyOn(api, "stay").mockResolvedValue(deck);
    shown(<StopsSoon workspace={{ ...deck, stopsAt: "2026-04-01T09:00:00Z" }} />);
    fireEvent.click(screen.getByRole("button", { name: "Keep it running" }));
    await waitFor(() => expect(stay).toHaveBeenCalledWith("deck"));
  });
  it("says nothing while it is used", () => {
    shown(<StopsSoon workspace={deck} />);
    expect(screen.queryByRole("status")).toBeNull();
  });
});

describe("a rebuild", () => {
  it("tells what would be lost before it begins", async () => {
    vi.spyOn(api, "foresee").mockResolvedValue({ steps: ["Build the image"], replaces: true, keeps: true, lost: ["files in /opt/tools"], stays: ["volumes"] });
    const rebuild = vi.spyOn(api, "rebuild").mockResolvedValue(deck);
    shown(<Rebuild workspace={deck} />);
    fireEvent.click(screen.getByRole("button", { name: "Rebuild …" }));
    await waitFor(() => expect(screen.getByText("files in /opt/tools")).toBeTruthy());
    expect(screen.getByText(/the earlier one is kept until the new one works/)).toBeTruthy();
    expect(rebuild).not.toHaveBeenCalled();
    fireEvent.click(screen.getByRole("button", { name: "Rebuild it" }));
    await waitFor(() => expect(rebuild).toHaveBeenCalledWith("deck", false));
  });
});

describe("a rebuild with new commits", () => {
  it("is foreseen, told and asked for with them", async () => {
    const foresee = vi.spyOn(api, "foresee").mockImplementation(async (_, pull) => ({ steps: pull ? ["Bring new commits into the source"] : [], replaces: false, lost: [], stays: [] }));
    const rebuild = vi.spyOn(api, "rebuild").mockResolvedValue(deck);
    shown(<Rebuild workspace={{ ...deck, commit: "c0ffee" }} />);
    fireEvent.click(screen.getByRole("button", { name: "Rebuild …" }));
    await waitFor(() => expect(foresee).toHaveBeenCalledWith("deck", false));
    fireEvent.click(screen.getByRole("checkbox"));
    await waitFor(() => expect(screen.getByText("Bring new commits into the source")).toBeTruthy());
    expect(screen.getByText("domicile rebuild deck -pull")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Rebuild it" }));
    await waitFor(() => expect(rebuild).toHaveBeenCalledWith("deck", true));
  });
});

describe("what differs", () => {
  it("is looked for on request, with the lines to add", async () => {
    const drift = vi.spyOn(api, "drift").mockResolvedValue([{ kind: "apt", name: "jq", says: "was installed by hand", line: '"onCreateCommand": "apt-get install -y jq"' }]);
    shown(<Drifted workspace={deck} />);
    expect(drift).not.toHaveBeenCalled();
    fireEvent.click(screen.getByRole("button", { name: "Look" }));
    await waitFor(() => expect(screen.getByText(/apt-get install -y jq/)).toBeTruthy());
  });
});

describe("helpers", () => {
  it("are listed with how they are reached, and asked about before they go", async () => {
    const remove = vi.spyOn(api, "remove").mockResolvedValue(deck);
    shown(<Helpers workspace={{ ...deck, helpers: [{ name: "tools", full: "deck.tools", state: "ready" }] }} />);
    expect(screen.getByText("ssh tools")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Remove" }));
    expect(remove).not.toHaveBeenCalled();
    fireEvent.click(screen.getByRole("button", { name: "Remove it" }));
    await waitFor(() => expect(remove).toHaveBeenCalledWith("deck.tools", expect.anything()));
  });
});

describe("snapshots", () => {
  const kept = { id: 3, name: "deck", note: "before the storm", source: deck.source, site: "this-host", bytes: 4.2 * 2 ** 20, ready: true, created: "2026-04-01T08:00:00Z" };
  it("are those of the workspace's source, with their size", async () => {
    vi.spyOn(api, "snapshots").mockResolvedValue([kept, { ...kept, id: 4, note: "of another", source: "https://git.skerry.test/other.git" }]);
    shown(<Snapshots workspace={deck} />);
    await waitFor(() => expect(screen.getByText("before the storm")).toBeTruthy());
    expect(screen.getByText(/4\.2 MB/)).toBeTruthy();
    expect(screen.queryByText("of another")).toBeNull();
  });
  it("keep what was typed when keeping fails", async () => {
    vi.spyOn(api, "snapshots").mockResolvedValue([]);
    vi.spyOn(api, "keepSnapshot").mockRejectedValue(new Trouble({ title: "A run is under way", status: 409, code: "busy" }));
    shown(<Snapshots workspace={deck} />);
    const note = screen.getByLabelText<HTMLInputElement>("What it is kept for");
    fireEvent.change(note, { target: { value: "calm" } });
    fireEvent.click(screen.getByRole("button", { name: "Keep this state" }));
    await waitFor(() => expect(screen.getByText(/A run is under way/)).toBeTruthy());
    expect(note.value).toBe("calm");
  });
});
