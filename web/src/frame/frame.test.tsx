import { act, cleanup, fireEvent, render, screen } from "@testing-library/react";
import { MemoryRouter, Route, Routes } from "react-router";
import { afterEach, describe, expect, it, vi } from "vitest";
import { Trouble } from "../api/client";
import { Frame } from "./frame";
import { Ago, ago, seconds } from "./time";
import { State } from "./state";
import { TroubleNote } from "./trouble";
import { matches } from "../workspaces/workspaces";

afterEach(cleanup);

describe("times", () => {
  it("are told as people do", () => {
    const now = Date.parse("2026-07-01T12:00:00Z");
    const before = (minutes: number) => ago(now - minutes * 60_000, now);
    expect([before(0.5), before(5), before(90), before(47 * 60), before(72 * 60)]).toEqual(["just now", "5 min ago", "1 h ago", "47 h ago", "3 days ago"]);
    expect([seconds(90), seconds(59_900), seconds(61_000), seconds(600_000)]).toEqual(["0.1 s", "59.9 s", "1:01 min", "10:00 min"]);
  });
});

describe("a state", () => {
  it("is a word, not only a colour or a shape", () => {
    render(<State state="lost" />);
    expect(screen.getByText("out of reach")).toBeTruthy();
  });
});

describe("trouble", () => {
  it("says what, why and what to do", () => {
    render(<TroubleNote error={new Trouble({ title: "The site is full", status: 409, code: "full", detail: "no memory left", remedy: "stop one" })} />);
    expect(screen.getByRole("alert").textContent).toBe("The site is fullno memory leftWhat to do: stop one");
  });
});

describe("the filter of workspaces", () => {
  const w = { id: 1, name: "quay-board", source: "https://git.skerry.test/quayboard", state: "ready" as const, site: "this-host", created: "", lastUsed: "", ports: [], user: "crew" };
  it("wants all words, in any order and case", () => {
    expect(matches(w, "")).toBe(true);
    expect(matches(w, "READY quay")).toBe(true);
    expect(matches(w, "quay stopped")).toBe(false);
  });
});

describe("the frame", () => {
  const account = { id: 1, name: "skipper", admin: true, locked: false };
  const Reef = () => {
    throw new Error("a chart is missing");
  };
  const shown = () =>
    render(
      <MemoryRouter initialEntries={["/"]}>
        <Frame account={account} onSignOut={() => {}}>
          <Routes>
            <Route path="/" element={<h1>Home</h1>} />
            <Route path="/new" element={<Reef />} />
            <Route path="/sites" element={<h1>Places</h1>} />
          </Routes>
        </Frame>
      </MemoryRouter>,
    );
  it("moves the focus to a new page, not to the first", () => {
    shown();
    expect(document.activeElement).toBe(document.body);
    fireEvent.click(screen.getByRole("link", { name: "Sites" }));
    expect(document.activeElement).toBe(screen.getByRole("main"));
  });
  it("goes on when a page cannot be drawn", () => {
    const said = vi.spyOn(console, "error").mockImplementation(() => {});
    shown();
    fireEvent.click(screen.getByRole("link", { name: "New" }));
    expect(screen.getByRole("alert").textContent).toContain("a chart is missing");
    fireEvent.click(screen.getByRole("link", { name: "Sites" }));
    expect(screen.queryByRole("alert")).toBeNull();
    expect(screen.getByText("Places")).toBeTruthy();
    said.mockRestore();
  });
});

describe("relative times", () => {
  it("go on together, by one clock that stops when nobody looks", () => {
    vi.useFakeTimers();
    try {
      const at = new Date().toISOString();
      const { unmount } = render(
        <>
          <Ago at={at} />
          <Ago at={at} />
        </>,
      );
      expect(vi.getTimerCount()).toBe(1);
      act(() => vi.advanceTimersByTime(150_000));
      expect(screen.getAllByText("2 min ago")).toHaveLength(2);
      unmount();
      expect(vi.getTimerCount()).toBe(0);
    } finally {
      vi.useRealTimers();
    }
  });
});
