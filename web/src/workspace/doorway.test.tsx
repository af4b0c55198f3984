import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, expect, it, vi } from "vitest";
import { api, type Workspace } from "../api/client";
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

it("opens each of one's editors by one click", () => {
  shown({ ...board, editors: [{ name: "mine", url: "x-editor://quay.test/src" }, { name: "files", url: "sftp://board@quay.test:4322/src" }] });
  expect(screen.getByRole("link", { name: "mine" }).getAttribute("href")).toBe("x-editor://quay.test/src");
  expect(screen.getByRole("link", { name: "files" }).getAttribute("href")).toBe("sftp://board@quay.test:4322/src");
});

it("tries the way in, and says at which step it fails", async () => {
  vi.spyOn(api, "ways").mockResolvedValue({
    workspace: "board", host: "quay.test", port: 4322, user: "board", hostKey: "", hostAuthority: "", fingerprint: "", clock: "",
    steps: [
      { name: "the workspace runs", fine: true, found: "at machines" },
      { name: "its agent answers", fine: false, found: "it does not", remedy: "domicile stop board" },
    ],
  });
  shown(board);
  fireEvent.click(screen.getByRole("button", { name: "Try the way in" }));
  expect(await screen.findByText(/its agent answers: no. it does not/)).toBeTruthy();
  expect(screen.getByText("What to do: domicile stop board")).toBeTruthy();
  expect(screen.getByText("domicile address board -test")).toBeTruthy();
});

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
