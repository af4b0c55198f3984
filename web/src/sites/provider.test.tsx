import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { api, Trouble, type Site } from "../api/client";
import { SiteUpkeep } from "./hosts";
import { AddProvider } from "./provider";

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

const shown = (page: React.ReactNode) => render(<QueryClientProvider client={new QueryClient()}>{page}</QueryClientProvider>);
const type = (label: RegExp, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });

describe("a provider of rented instances", () => {
  it("is added with the account's key, which no command shows", async () => {
    const add = vi.spyOn(api, "addProvider").mockResolvedValue([]);
    shown(<AddProvider />);
    type(/^What the site/, "rented");
    type(/^The provider/, "https://cloud.test/north");
    type(/^The key/, "tide");
    expect(screen.getByText("domicile sites add rented https://cloud.test/north -key FILE")).toBeTruthy();
    expect(screen.getByLabelText<HTMLInputElement>(/^The key/).type).toBe("password");
    fireEvent.click(screen.getByRole("button", { name: "Add it" }));
    await waitFor(() => expect(screen.getByRole("status").textContent).toContain("rented can hold"));
    expect(add).toHaveBeenCalledWith("rented", "https://cloud.test/north", "tide");
  });
  it("says why an account is none, and keeps what was typed", async () => {
    vi.spyOn(api, "addProvider").mockRejectedValue(new Trouble({ title: "the provider does not take the account's key", status: 502, code: "provider-refused", remedy: "give the site another key" }));
    shown(<AddProvider />);
    type(/^What the site/, "rented");
    type(/^The provider/, "https://cloud.test/north");
    type(/^The key/, "ebb");
    fireEvent.click(screen.getByRole("button", { name: "Add it" }));
    await waitFor(() => expect(screen.getByRole("alert").textContent).toContain("What to do: give the site another key"));
    expect(screen.getByLabelText<HTMLInputElement>(/^The provider/).value).toBe("https://cloud.test/north");
  });
  it("has its own sizes, and may be given another key", async () => {
    const change = vi.spyOn(api, "changeSite").mockResolvedValue(undefined);
    const rented: Site = { name: "rented", kind: "cloud", ready: true, workspaces: 0 };
    shown(<SiteUpkeep site={rented} />);
    expect(screen.queryByLabelText(/^Sizes/)).toBeNull();
    type(/^The key/, "flood");
    fireEvent.click(screen.getByRole("button", { name: "Use it" }));
    await waitFor(() => expect(change).toHaveBeenCalledWith("rented", { key: "flood" }));
  });
});
