import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { api, Trouble } from "../api/client";
import { Editors } from "./editors";

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

it("keeps an editor, and what was typed where that fails", async () => {
  vi.spyOn(api, "editors").mockResolvedValue([{ name: "files", link: "sftp://{host}{path}" }]);
  const set = vi.spyOn(api, "setEditor").mockRejectedValueOnce(new Trouble({ title: "javascript: is no scheme of an editor", status: 400, code: "bad-link" }));
  const remove = vi.spyOn(api, "removeEditor").mockResolvedValue(undefined as never);
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Editors />
    </QueryClientProvider>,
  );
  fireEvent.change(screen.getByLabelText("Its name"), { target: { value: "mine" } });
  const link = screen.getByLabelText(/^Its link/);
  fireEvent.change(link, { target: { value: "javascript:alert(1)" } });
  fireEvent.click(screen.getByRole("button", { name: "Keep the editor" }));
  expect(await screen.findByText("javascript: is no scheme of an editor")).toBeTruthy();
  expect((link as HTMLInputElement).value).toBe("javascript:alert(1)");
  set.mockResolvedValueOnce(undefined as never);
  fireEvent.change(link, { target: { value: "x-editor://{host}{path}" } });
  fireEvent.click(screen.getByRole("button", { name: "Keep the editor" }));
  await waitFor(() => expect((link as HTMLInputElement).value).toBe(""));
  expect(set).toHaveBeenLastCalledWith("mine", "x-editor://{host}{path}");
  fireEvent.click(await screen.findByRole("button", { name: "Remove the editor files" }));
  await waitFor(() => expect(remove.mock.calls[0]?.[0]).toBe("files"));
});
