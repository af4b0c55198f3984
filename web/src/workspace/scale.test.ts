import { describe, expect, it } from "vitest";
import type { Run, Step } from "../api/client";
import { bars } from "./scale";

const at = (seconds: number) => new Date(Date.UTC(2026, 3, 1, 8, 0, seconds)).toISOString();
const step = (s: Partial<Step>): Step => ({ position: 0, name: "x", title: "X", state: "done", attempts: 1, ...s });
const run = (...steps: Step[]): Run => ({ id: 1, workspace: "deck", kind: "provision", state: "running", created: at(0), steps });

describe("the bars of a run", () => {
  it("are drawn to scale, one behind the other", () => {
    const [a, b, c] = bars(run(step({ started: at(0), ended: at(2) }), step({ started: at(2), ended: at(8) }), step({ state: "waiting" })), Date.parse(at(20)));
    expect(a).toMatchObject({ left: 0, width: 25, millis: 2000 });
    expect(b).toMatchObject({ left: 25, width: 75, millis: 6000 });
    expect(c).toMatchObject({ width: 0, millis: 0 });
  });
  it("make room for how long the running step took last time", () => {
    const [a, b] = bars(run(step({ started: at(0), ended: at(2) }), step({ state: "running", started: at(2), lastMillis: 8000 })), Date.parse(at(4)));
    expect(a).toMatchObject({ width: 20 });
    expect(b).toMatchObject({ left: 20, width: 20, mark: 100 });
  });
  it("leave out a mark that would lie outside", () => {
    const [a] = bars(run(step({ started: at(0), ended: at(2), lastMillis: 9000 })), Date.parse(at(9)));
    expect(a?.mark).toBeUndefined();
  });
  it("are nothing before the run begins", () => {
    expect(bars(run(step({ state: "waiting" })), Date.parse(at(1)))).toEqual([{ left: 0, width: 0, millis: 0 }]);
  });
});
