import { describe, expect, it } from "vitest";

import type { PlanDocument } from "../api/client";
import { fitsPattern, tagsOf } from "./target-picker";

describe("what may be a target", () => {
  it("has every tag once, with how many carry it", () => {
    const document = { instances: [{ tags: ["wet", "old"] }, { tags: ["wet"] }], fleets: [{ count: 4, instance: { tags: ["wet"] } }, { count: 2, instance: { tags: [] } }] } as unknown as PlanDocument;
    expect(tagsOf(document)).toEqual([
      { kind: "tagged", name: "wet", says: "tag of 6" },
      { kind: "tagged", name: "old", says: "tag of 1" },
    ]);
  });

  it("fits a pattern as a whole, and a word anywhere", () => {
    expect(fitsPattern("tiles-1", "tiles-*")).toBe(true);
    expect(fitsPattern("my-tiles-1", "tiles-*")).toBe(false);
    expect(fitsPattern("my-tiles-1", "tiles")).toBe(true);
  });
});
