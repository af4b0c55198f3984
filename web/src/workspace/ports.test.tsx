import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { api, type Port, type Workspace } from "../api/client";
import { Ports } from "./ports";

const board: Workspace = { id: 1, name: "board", source: "https://git.skerry.test/board.git", state: "ready", site: "this-host", created: "2026-04-01T08:00:00Z", lastUsed: "2026-04-01T08:00:00Z", ports: [{ port: "8080", label: "Board" }] };

function shown(ports: Port[], known = true) {
  vi.spyOn(api, "webAddresses").mockResolvedValue([{ port: "8080", url: "http://board-8080.localhost/", sharing: "team", password: false, local: false, created: "2026-04-01T08:00:00Z", changes: [] }]);
  vi.spyOn(api, "ports").mockResolvedValue({ workspace: "board", known, ports });
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Ports workspace={board} />
    </QueryClientProvider>,
  );
}

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

it("tells who listens at each port, and how it is reached", async () => {
  shown([
    { port: "8080", label: "Board", known: true, listener: { network: "tcp", addresses: ["127.0.0.1"], user: "crew", process: "python3", command: "python3 -m http.server" } },
    { port: "9000", known: true, listener: { network: "tcp", addresses: ["::"] } },
    { port: "9100", from: "image", known: true },
    { port: "cache:6379", known: true, listener: { network: "tcp", addresses: ["0.0.0.0"], user: "cache", process: "cached" } },
    { port: "db:5432" },
  ]);
  expect(await screen.findByText("python3 of crew listens")).toBeTruthy();
  expect(screen.getAllByRole("listitem")).toHaveLength(5);
  expect(screen.getByText("cached of cache listens")).toBeTruthy();
  expect(screen.getByText("a program listens")).toBeTruthy();
  expect(screen.getByText("Port 9100, named by the image")).toBeTruthy();
  expect(screen.getAllByText("nobody listens")).toHaveLength(1);
  expect(screen.getByText("domicile forward board db:5432")).toBeTruthy();
});

it("opens a port in a tab of its own, and tells who may", async () => {
  const tab = { opener: window, location: { replace: vi.fn() }, close: vi.fn() };
  vi.spyOn(window, "open").mockReturnValue(tab as unknown as Window);
  vi.spyOn(api, "openWeb").mockResolvedValue({ url: "http://board-8080.localhost/.domicile/enter?ticket=x" });
  const share = vi.spyOn(api, "shareWeb").mockResolvedValue({ port: "8080", url: "", sharing: "link", link: "http://the-link", password: false, local: false, created: "2026-04-01T08:00:00Z", changes: [] });
  HTMLDialogElement.prototype.showModal = vi.fn(function (this: HTMLDialogElement) {
    this.open = true;
  });
  shown([{ port: "8080", label: "Board", listener: { network: "tcp", addresses: ["127.0.0.1"] } }]);
  fireEvent.click(await screen.findByRole("button", { name: "Open port 8080" }));
  await waitFor(() => expect(tab.location.replace).toHaveBeenCalledWith("http://board-8080.localhost/.domicile/enter?ticket=x"));
  expect(tab.opener).toBeNull();
  fireEvent.click(await screen.findByRole("button", { name: "Port 8080 is for the team: change who may open it" }));
  fireEvent.click(screen.getByRole("radio", { name: "Whoever has a link, for a time" }));
  fireEvent.click(screen.getByRole("button", { name: "Change it" }));
  await screen.findByText("http://the-link");
  expect(share).toHaveBeenCalledWith("board", "8080", { sharing: "link", hours: 24, password: undefined });
});

it("shows what the definition names where it is not known who listens", async () => {
  shown([{ port: "8080", label: "Board" }], false);
  expect(await screen.findByText("Port 8080, Board")).toBeTruthy();
  expect(screen.queryByText("nobody listens")).toBeNull();
});
