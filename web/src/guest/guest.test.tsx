import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { MemoryRouter, Route, Routes } from "react-router";
import { afterEach, expect, it, vi } from "vitest";
import { api, type Invitation } from "../api/client";
import { AsGuest } from "./asguest";
import { GuestPage } from "./guest";

const invitation: Invitation = { name: "board~skipper", workspace: "board", owner: "skipper", may: "look", until: "2999-04-01T08:00:00Z", state: "ready" };

function shown(list: Invitation[], at = "/guest/board~skipper") {
  vi.spyOn(api, "invitations").mockResolvedValue(list);
  vi.spyOn(api, "terminals").mockResolvedValue([{ name: "tests", command: "make test", attached: 1, started: "2026-04-01T08:00:00Z" }]);
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter initialEntries={[at]}>
        <Routes>
          <Route path="/" element={<AsGuest />} />
          <Route path="/guest/:name" element={<GuestPage />} />
        </Routes>
      </MemoryRouter>
    </QueryClientProvider>,
  );
}

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

it("lets who may look do no more", async () => {
  shown([invitation]);
  const look = await screen.findByRole("link", { name: "Look at the terminal tests" });
  expect(look.getAttribute("href")).toBe("/workspaces/board~skipper/terminal?terminal=tests&look=true");
  expect(screen.queryByRole("link", { name: "Type in the terminal tests" })).toBeNull();
  expect(screen.queryByText("Open a terminal")).toBeNull();
});

it("shows the ways in to who may type, and gives the invitation back", async () => {
  const leave = vi.spyOn(api, "leaveInvitation").mockResolvedValue(undefined);
  shown([{ ...invitation, may: "type", host: "127.0.0.1", port: 4322 }]);
  expect(await screen.findByText("ssh -p 4322 board~skipper@127.0.0.1")).toBeTruthy();
  expect(await screen.findByRole("link", { name: "Type in the terminal tests" })).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "Give the invitation back" }));
  await waitFor(() => expect(leave).toHaveBeenCalledWith("board~skipper"));
  expect((await screen.findByRole("link", { name: "board" })).getAttribute("href")).toBe("/guest/board~skipper");
});

it("says that it is over, and that it does not run", async () => {
  shown([{ ...invitation, state: "stopped" }]);
  expect(await screen.findByText("Only skipper can start it.")).toBeTruthy();
  cleanup();
  shown([]);
  expect(await screen.findByText("You are not invited there, or no more")).toBeTruthy();
});
