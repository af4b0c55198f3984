import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { api, type PlanAnswer } from "../api/client";
import { Plan } from "./plan";

function planned(answer: PlanAnswer) {
  vi.spyOn(api, "plan").mockResolvedValue(answer);
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Plan source="https://git.skerry.test/deck.git" at="" size="" />
    </QueryClientProvider>,
  );
}

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

describe("the plan", () => {
  it("shows what is there and how long the rest takes", async () => {
    planned({ site: "quay", siteReason: "it has the image", otherSites: [{ site: "skiff", why: "it costs 0.02 EUR an hour" }], size: { name: "small", cpus: 1, memoryBytes: 2 ** 31, price: { perHour: "0.01", perMonth: "7.30", currency: "EUR" } }, steps: [{ name: "image", title: "Pull the image", there: true, millis: 9000 }, { name: "container", title: "Make the container", there: false, millis: 1500 }] });
    await waitFor(() => expect(screen.getByText("Pull the image")).toBeTruthy());
    expect(screen.getByText("there")).toBeTruthy();
    expect(screen.getByText("At quay: it has the image.")).toBeTruthy();
    expect(screen.getByText("Not at skiff: it costs 0.02 EUR an hour.")).toBeTruthy();
    expect(screen.getByText("small: 1 processor, 2 GB, 0.01 EUR an hour, 7.30 a month if it always runs.")).toBeTruthy();
    expect(screen.getByText("1.5 s")).toBeTruthy();
    expect(screen.queryByText("9.0 s")).toBeNull();
  });
  it("names all that is refused, with the remedy", async () => {
    planned({ steps: [], refused: [{ says: "line 2: it asks to be privileged", remedy: "take it out" }, { says: "line 3: it asks for the folder /etc" }] });
    await waitFor(() => expect(screen.getByRole("alert").textContent).toContain("it asks to be privileged"));
    expect(screen.getByText("take it out")).toBeTruthy();
    expect(screen.getByText(/folder \/etc/)).toBeTruthy();
  });
});
