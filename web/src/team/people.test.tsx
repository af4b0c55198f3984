import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { api } from "../api/client";
import { People } from "./people";

const people = [
  { id: 1, name: "skipper", admin: true, locked: false },
  { id: 2, name: "finn", admin: false, locked: true },
];

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

function shown() {
  vi.spyOn(api, "accounts").mockResolvedValue(people);
  render(
    <QueryClientProvider client={new QueryClient()}>
      <People own="skipper" />
    </QueryClientProvider>,
  );
  return screen.findByText("finn");
}

test("a locked account says so, and is opened with one click; nobody locks the own one", async () => {
  const lock = vi.spyOn(api, "lockAccount").mockResolvedValue(undefined);
  await shown();
  expect(screen.getByText(/locked/)).toBeTruthy();
  expect(screen.getAllByText(/^(Lock|Open again)$/)).toHaveLength(1);
  fireEvent.click(screen.getByText("Open again"));
  await waitFor(() => expect(lock).toHaveBeenCalledWith("finn", false));
});

test("removing asks once and names what is lost", async () => {
  const remove = vi.spyOn(api, "removeAccount").mockResolvedValue(undefined);
  HTMLDialogElement.prototype.showModal = vi.fn();
  await shown();
  fireEvent.click(screen.getByText("Remove"));
  expect(remove).not.toHaveBeenCalled();
  expect(screen.getByText(/Its workspaces with all that is in them/)).toBeTruthy();
  fireEvent.click(screen.getByText("Remove it"));
  await waitFor(() => expect(remove).toHaveBeenCalledWith("finn"));
});
