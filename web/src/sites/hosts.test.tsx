import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { api, Trouble, type Site } from "../api/client";
import { AddHost, SiteUpkeep } from "./hosts";

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

const shown = (page: React.ReactNode) => render(<QueryClientProvider client={new QueryClient()}>{page}</QueryClientProvider>);
const skiff: Site = { name: "skiff", kind: "remote", ready: true, workspaces: 0 };

describe("a host over SSH", () => {
  it("is added with its key to compare and the line that it needs", async () => {
    const add = vi.spyOn(api, "addSite").mockResolvedValue({ name: "skiff", fingerprint: "SHA256:tide", install: "no-pty ssh-ed25519 AAAA domicile" });
    shown(<AddHost />);
    fireEvent.change(screen.getByLabelText("What it is called here"), { target: { value: "skiff" } });
    fireEvent.change(screen.getByLabelText("Where it is"), { target: { value: "ssh://crew@skiff.test" } });
    fireEvent.click(screen.getByRole("button", { name: "Add it" }));
    await waitFor(() => expect(screen.getByText("SHA256:tide")).toBeTruthy());
    expect(screen.getByText("no-pty ssh-ed25519 AAAA domicile")).toBeTruthy();
    expect(add).toHaveBeenCalledWith("skiff", "ssh://crew@skiff.test", undefined);
  });
  it("keeps what was typed when it does not answer", async () => {
    vi.spyOn(api, "addSite").mockRejectedValue(new Trouble({ title: "the host skiff.test does not answer", status: 503, code: "host-away", remedy: "see whether it runs" }));
    shown(<AddHost />);
    fireEvent.change(screen.getByLabelText("What it is called here"), { target: { value: "skiff" } });
    fireEvent.change(screen.getByLabelText("Where it is"), { target: { value: "ssh://crew@skiff.test" } });
    fireEvent.click(screen.getByRole("button", { name: "Add it" }));
    await waitFor(() => expect(screen.getByRole("alert").textContent).toContain("What to do: see whether it runs"));
    expect(screen.getByLabelText<HTMLInputElement>("Where it is").value).toBe("ssh://crew@skiff.test");
  });
});

describe("a site's upkeep", () => {
  it("tells what was found and what to do about it", async () => {
    vi.spyOn(api, "examineSite").mockResolvedValue([
      { what: "user", found: "crew", wanted: "crew", fine: true },
      { what: "clock", found: "2h0m0s off", wanted: "within 30s", fine: false, remedy: "timedatectl set-ntp true" },
    ]);
    shown(<SiteUpkeep site={skiff} />);
    fireEvent.click(screen.getByRole("button", { name: "Examine" }));
    await waitFor(() => expect(screen.getByText("What to do: timedatectl set-ntp true")).toBeTruthy());
  });
  it("changes what counts there, and leaves the service's word where it was", async () => {
    const change = vi.spyOn(api, "changeSite").mockResolvedValue(undefined);
    shown(<SiteUpkeep site={{ ...skiff, own: ["sizes"], sizes: [{ name: "small", cpus: 1, memoryBytes: 2 ** 31, price: { perHour: "0.02", perMonth: "14.60", currency: "EUR" } }] }} />);
    fireEvent.click(screen.getByText("What counts here"));
    expect(screen.getByLabelText<HTMLInputElement>(/^Sizes/).value).toBe("small=1:2048mb:0.02EUR");
    fireEvent.change(screen.getByLabelText("What definitions may ask for"), { target: { value: "devices" } });
    fireEvent.click(screen.getByRole("button", { name: "Change it" }));
    await waitFor(() => expect(change).toHaveBeenCalledWith("skiff", { allow: "devices", sizes: "small=1:2048mb:0.02EUR", size: "service", most: "none", copies: "none" }));
  });
  it("offers to trust another key only when one is shown, and to forget only what rests", () => {
    shown(<SiteUpkeep site={skiff} />);
    expect(screen.queryByRole("button", { name: /Trust/ })).toBeNull();
    expect(screen.queryByRole("button", { name: /Forget/ })).toBeNull();
    cleanup();
    shown(<SiteUpkeep site={{ ...skiff, ready: false, drained: true, problem: "the host skiff.test shows another key" }} />);
    expect(screen.getByRole("button", { name: /Trust/ })).toBeTruthy();
    expect(screen.getByRole("button", { name: "Take workspaces again" })).toBeTruthy();
    expect(screen.getByRole("button", { name: "Forget this site" })).toBeTruthy();
  });
});
