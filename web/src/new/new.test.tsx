import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, describe, expect, it, vi } from "vitest";
import { api, Trouble, type Site } from "../api/client";
import { New } from "./new";

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

function shown(address = "/new") {
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <MemoryRouter initialEntries={[address]}>
        <New />
      </MemoryRouter>
    </QueryClientProvider>,
  );
}

const site = (name: string, more: Partial<Site> = {}): Site => ({ name, kind: "engine", ready: true, workspaces: 0, processors: 8, memoryBytes: 16 * 2 ** 30, ...more });
const answer = { report: { file: ".devcontainer.json", problems: [], makes: [], floating: [], features: [] }, text: "{}" } as unknown as Awaited<ReturnType<typeof api.check>>;

describe("a new workspace", () => {
  it("keeps the address when it cannot be read, and says why", async () => {
    vi.spyOn(api, "check").mockRejectedValue(new Trouble({ title: "it is not a git repository", status: 404, code: "not-a-repository", remedy: "correct the address" }));
    shown();
    const source = screen.getByLabelText<HTMLInputElement>("Repository or folder");
    fireEvent.change(source, { target: { value: "https://git.skerry.test/dek.git" } });
    fireEvent.click(screen.getByRole("button", { name: "Read its definition" }));
    await waitFor(() => expect(screen.getByRole("alert").textContent).toContain("What to do: correct the address"));
    expect(source.value).toBe("https://git.skerry.test/dek.git");
    expect(screen.getByText("The sites that can hold it.")).toBeTruthy();
  });
  it("begins with the address that is to be corrected", () => {
    shown("/new?source=https%3A%2F%2Fgit.skerry.test%2Fdek.git&ref=winter");
    expect(screen.getByLabelText<HTMLInputElement>("Repository or folder").value).toBe("https://git.skerry.test/dek.git");
    expect(screen.getByLabelText<HTMLInputElement>("Branch, tag or commit").value).toBe("winter");
  });
  it("offers the sites that take something new, and makes it where one says", async () => {
    vi.spyOn(api, "check").mockResolvedValue(answer);
    vi.spyOn(api, "sites").mockResolvedValue([site("here"), site("quay"), site("reef", { ready: false }), site("old-quay", { drained: true })]);
    vi.spyOn(api, "plan").mockRejectedValue(new Trouble({ title: "not now", status: 503, code: "x" }));
    const plan = vi.mocked(api.plan);
    const make = vi.spyOn(api, "provision").mockRejectedValue(new Trouble({ title: "You have a workspace deck already", status: 409, code: "name-taken" }));
    shown("/new?source=https%3A%2F%2Fgit.skerry.test%2Fdeck.git");
    fireEvent.click(screen.getByRole("button", { name: "Read its definition" }));
    fireEvent.click(await screen.findByRole("radio", { name: /^quay/ }));
    expect(screen.queryByRole("radio", { name: /old-quay/ })).toBeNull();
    expect(screen.getByRole("radio", { name: /reef/ }).hasAttribute("disabled")).toBe(true);
    const other = screen.getByLabelText("Set to other values");
    fireEvent.change(other, { target: { value: "image=13\n\n features.tide.harbour=Lamb Island " } });
    expect(plan).not.toHaveBeenCalledWith(expect.objectContaining({ vary: expect.anything() }));
    fireEvent.blur(other);
    await waitFor(() => expect(plan).toHaveBeenLastCalledWith(expect.objectContaining({ vary: ["image=13", "features.tide.harbour=Lamb Island"] })));
    expect(screen.getByText(/-vary image=13 -vary 'features.tide.harbour=Lamb Island'/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Make the workspace" }));
    await waitFor(() => expect(make).toHaveBeenCalledWith(expect.objectContaining({ name: "deck", site: "quay", vary: ["image=13", "features.tide.harbour=Lamb Island"] })));
    expect(await screen.findByText("You have a workspace deck already")).toBeTruthy();
    const prepare = vi.spyOn(api, "prepare").mockRejectedValue(new Trouble({ title: "a run is under way", status: 409, code: "busy" }));
    fireEvent.change(screen.getByLabelText(/kept warm/), { target: { value: "2" } });
    fireEvent.click(screen.getByRole("button", { name: "Prepare it ahead" }));
    await waitFor(() => expect(prepare).toHaveBeenCalledWith(expect.objectContaining({ site: "quay", follow: true, keep: 2 })));
  });
});
