import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { api, Trouble, type Guest, type Workspace } from "../api/client";
import { left } from "../frame/time";
import { Guests } from "./guests";

const board: Workspace = { id: 1, name: "board", source: "https://git.skerry.test/board.git", state: "ready", site: "this-host", created: "2026-04-01T08:00:00Z", lastUsed: "2026-04-01T08:00:00Z", ports: [] };
const finn: Guest = { person: "finn", may: "look", invited: "2026-04-01T08:00:00Z", until: "2999-04-01T08:00:00Z" };

function shown(guests: Guest[], name = "board") {
  const list = vi.spyOn(api, "guests").mockResolvedValue({ guests, changes: guests.map((g) => ({ at: g.invited, by: "skipper", what: `invited ${g.person} to ${g.may}` })) });
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Guests workspace={{ ...board, name }} />
    </QueryClientProvider>,
  );
  return list;
}

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

it("tells who is invited, and ends an invitation", async () => {
  const end = vi.spyOn(api, "removeGuest").mockResolvedValue(undefined);
  shown([finn]);
  expect(await screen.findByText(/has not come yet/)).toBeTruthy();
  expect(screen.getByText(/invited finn to look/)).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "End the invitation of finn" }));
  await waitFor(() => expect(end).toHaveBeenCalledWith("board", "finn"));
});

it("invites, and says what who types can do", async () => {
  const invite = vi.spyOn(api, "inviteGuest").mockRejectedValueOnce(new Trouble({ title: 'There is no account "fin"', status: 404, code: "no-account", remedy: "give the name that the person signs in with" }));
  shown([]);
  expect(await screen.findByText(/Nobody but you gets in/)).toBeTruthy();
  fireEvent.change(screen.getByLabelText("Whom to invite"), { target: { value: " fin " } });
  expect(screen.queryByText(/can do what you can do here/)).toBeNull();
  fireEvent.change(screen.getByLabelText("What the guest may do"), { target: { value: "type" } });
  expect(screen.getByText(/can do what you can do here/)).toBeTruthy();
  fireEvent.change(screen.getByLabelText("For how many hours"), { target: { value: "2" } });
  expect(screen.getByText("domicile invite board fin -may type -hours 2")).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "Invite" }));
  expect(await screen.findByText(/There is no account/)).toBeTruthy();
  expect(invite).toHaveBeenCalledWith("board", "fin", { may: "type", hours: 2 });
  expect(screen.getByLabelText<HTMLInputElement>("Whom to invite").value).toBe(" fin "); // nothing is lost
});

it("is not there for a helper", () => {
  const list = shown([], "board.mate");
  expect(list).not.toHaveBeenCalled();
  expect(screen.queryByText("Guests")).toBeNull();
});

it("says how long it holds", () => {
  expect([-1, 5, 59, 60, 61, 119, 47 * 60, 48 * 60, 720 * 60].map((minutes) => left(minutes * 60_000, 0))).toEqual(["over", "for another 5 min", "for another 59 min", "for another 1 h", "for another 1 h", "for another 2 h", "for another 47 h", "for another 2 days", "for another 30 days"]);
});
