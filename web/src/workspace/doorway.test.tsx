import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, expect, it } from "vitest";
import type { Workspace } from "../api/client";
import { Doorway } from "./doorway";

const board: Workspace = { id: 1, name: "board", source: "https://git.skerry.test/board.git", state: "ready", site: "machines", created: "2026-04-01T08:00:00Z", lastUsed: "2026-04-01T08:00:00Z", ports: [] };

function shown(workspace: Workspace) {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter>
        <Doorway workspace={workspace} />
      </MemoryRouter>
    </QueryClientProvider>,
  );
}

afterEach(cleanup);

it("leads to the screen of a workspace that has one, while it runs", () => {
  shown({ ...board, screen: "1280x800" });
  expect(screen.getByRole("link", { name: "See its screen" }).getAttribute("href")).toBe("/workspaces/board/screen");
  cleanup();
  shown(board);
  expect(screen.queryByRole("link", { name: "See its screen" })).toBeNull();
  cleanup();
  shown({ ...board, screen: "1280x800", state: "stopped" });
  expect(screen.queryByRole("link", { name: "See its screen" })).toBeNull();
});
