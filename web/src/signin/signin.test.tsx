import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { api, Trouble } from "../api/client";
import { SignIn } from "./signin";

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
  history.replaceState(null, "", "/");
});

function shown(needed: boolean) {
  vi.spyOn(api, "setup").mockResolvedValue({ needed });
  const came = vi.fn();
  render(
    <QueryClientProvider client={new QueryClient()}>
      <SignIn onSignedIn={came} />
    </QueryClientProvider>,
  );
  return came;
}

const type = (name: string, password: string) => {
  fireEvent.change(screen.getByLabelText("Name"), { target: { value: name } });
  fireEvent.change(screen.getByLabelText("Password"), { target: { value: password } });
};

describe("signing in", () => {
  it("keeps what was typed when it fails, says why, and goes on to the page that was asked for", async () => {
    history.replaceState(null, "", "/workspaces/deck");
    const enter = vi.spyOn(api, "signIn").mockRejectedValueOnce(new Trouble({ title: "Name and password do not fit together", status: 401, code: "wrong-password", remedy: "try again" }));
    const came = shown(false);
    type("skipper", "ebb");
    fireEvent.click(screen.getByRole("button", { name: "Come in" }));
    await waitFor(() => expect(screen.getByRole("alert").textContent).toContain("What to do: try again"));
    expect(screen.getByLabelText<HTMLInputElement>("Password").value).toBe("ebb");
    expect(came).not.toHaveBeenCalled();
    enter.mockResolvedValueOnce({ token: "t" } as Awaited<ReturnType<typeof api.signIn>>);
    fireEvent.click(screen.getByRole("button", { name: "Come in" }));
    await waitFor(() => expect(came).toHaveBeenCalled());
    expect(location.pathname).toBe("/workspaces/deck");
  });
  it("makes the first account with the code of the link, which does not stay in the address", async () => {
    history.replaceState(null, "", "/setup#tide-code");
    const make = vi.spyOn(api, "makeFirstAccount").mockResolvedValue({ token: "t" } as Awaited<ReturnType<typeof api.makeFirstAccount>>);
    const came = shown(true);
    await screen.findByRole("button", { name: "Make the account" });
    type("skipper", "tide-and-timetable");
    fireEvent.click(screen.getByRole("button", { name: "Make the account" }));
    await waitFor(() => expect(came).toHaveBeenCalled());
    expect(make).toHaveBeenCalledWith({ code: "tide-code", name: "skipper", password: "tide-and-timetable" });
    expect(location.href).not.toContain("tide-code");
    expect(location.pathname).toBe("/welcome");
  });
  it("says where the link is, to who comes without its code", async () => {
    shown(true);
    await screen.findByText(/Open the link that the service printed/);
    expect(screen.getByRole("button", { name: "Make the account" }).hasAttribute("disabled")).toBe(true);
  });
});
