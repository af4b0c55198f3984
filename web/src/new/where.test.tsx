import { describe, expect, it } from "vitest";
import { whatSiteHas } from "./where";

describe("what a site has", () => {
  const size = (name: string, perHour?: string) => ({ name, cpus: 1, memoryBytes: 2 ** 30, price: perHour ? { perHour, perMonth: `${Number(perHour) * 730}`, currency: "EUR" } : undefined });
  const has = { ready: true, workspaces: 0, processors: 4, memoryBytes: 4 * 2 ** 30 };
  it("tells the least that it costs, by the hour and the month", () => {
    expect(whatSiteHas({ ...has, name: "rented", kind: "cloud", sizes: [size("ketch", "0.018"), size("dinghy", "0.01"), size("raft")] })).toBe("up to 4 processors, 4 GB memory; from 0.01 EUR an hour, 7.3 a month");
  });
  it("says nothing of prices where there are none", () => {
    expect(whatSiteHas({ ...has, name: "quay", kind: "engine", sizes: [size("small")] })).toBe("4 processors, 4 GB memory");
  });
});
