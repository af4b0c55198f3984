import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { api, type Port, type Workspace } from "../api/client";
import { Ports } from "./ports";

const board: Workspace = { id: 1, name: "board", source: "https://git.skerry.test/board.git", state: "ready", site: "this-host", created: "2026-04-01T08:00:00Z", lastUsed: "2026-04-01T08:00:00Z", ports: [{ port: "8080", label: "Board" }] };

function shown(ports: Port[], known = true) {
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
    { port: "8080", label: "Board", listener: { network: "tcp", addresses: ["127.0.0.1"], user: "crew", process: "python3", command: "python3 -m http.server" } },
    { port: "9000", listener: { network: "tcp", addresses: ["::"] } },
    { port: "9100", from: "image" },
    { port: "db:5432" },
  ]);
  expect(await screen.findByText("python3 of crew listens")).toBeTruthy();
  expect(screen.getAllByRole("listitem")).toHaveLength(4);
  expect(screen.getByText("a program listens")).toBeTruthy();
  expect(screen.getByText("Port 9100, named by the image")).toBeTruthy();
  expect(screen.getAllByText("nobody listens")).toHaveLength(1);
  expect(screen.getByText("domicile forward board db:5432")).toBeTruthy();
});

it("shows what the definition names where it is not known who listens", async () => {
  shown([{ port: "8080", label: "Board" }], false);
  expect(await screen.findByText("Port 8080, Board")).toBeTruthy();
  expect(screen.queryByText("nobody listens")).toBeNull();
});
