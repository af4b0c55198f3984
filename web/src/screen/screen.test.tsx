import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import { MemoryRouter, Route, Routes } from "react-router";
import { afterEach, expect, it, vi } from "vitest";
import { api, Trouble, type Workspace } from "../api/client";
import ScreenPage from "./screen";

const board: Workspace = { id: 1, name: "board", source: "https://git.skerry.test/board.git", state: "ready", site: "machines", created: "2026-04-01T08:00:00Z", lastUsed: "2026-04-01T08:00:00Z", ports: [] };

vi.mock("@novnc/novnc", () => ({ default: class extends EventTarget { disconnect() {} focus() {} } }));

function shown() {
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <MemoryRouter initialEntries={["/workspaces/board/screen"]}>
        <Routes>
          <Route path="/workspaces/:name/screen" element={<ScreenPage />} />
        </Routes>
      </MemoryRouter>
    </QueryClientProvider>,
  );
}

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

it("says why there is nothing to see", async () => {
  vi.spyOn(api, "workspace").mockResolvedValue(board);
  shown();
  await screen.findByText("board has no screen");
  cleanup();
  vi.spyOn(api, "workspace").mockResolvedValue({ ...board, screen: "1280x800", state: "stopped" });
  shown();
  await screen.findByText("board is stopped");
  cleanup();
  vi.spyOn(api, "workspace").mockRejectedValue(new Trouble({ title: 'You have no workspace "board"', status: 404, code: "no-workspace" }));
  shown();
  await screen.findByText(/You have no workspace/);
});

it("shows the screen of one that runs", async () => {
  vi.spyOn(api, "workspace").mockResolvedValue({ ...board, screen: "1280x800" });
  shown();
  await screen.findByRole("group", { name: "The screen of board" });
  expect(screen.getByRole("link", { name: /Take a picture/ }).getAttribute("href")).toBe("/api/v1/workspaces/board/screen.png?proof=");
});
