import { describe, expect, it } from "vitest";
import { grouped } from "./upkeep";

describe("what nothing uses any more", () => {
  it("is told by site, kind and reason, with what becomes free", () => {
    const of = (name: string, why: string) => ({ site: "quay", kind: "image" as const, name, why, bytes: 2 });
    const groups = grouped([of("a", "old"), of("b", "unused"), of("c", "old")]);
    expect(groups.map((g) => [g.why, g.names, g.bytes])).toEqual([
      ["old", ["a", "c"], 4],
      ["unused", ["b"], 2],
    ]);
  });
});
