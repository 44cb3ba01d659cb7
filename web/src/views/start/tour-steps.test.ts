import { describe, expect, it } from "vitest";

import { documentOf } from "../../plan/testing";
import { tourSteps } from "./tour-steps";

describe("the tour", () => {
  it("goes over the plan's own zone and drill", () => {
    const document = documentOf({ regions: [{ name: "fells", zones: ["fells-1"] }], drills: [{ name: "loss", steps: [{ at_s: 60, fail: { zone: "fells-2" } }] }] });
    const steps = tourSteps(document);
    expect(steps).toHaveLength(5);
    expect(steps[1]?.search).toEqual({ lost: "zone:fells-2", moment: "at_once" });
    expect(steps[3]).toMatchObject({ view: "drill", search: { drill: "loss", at: 89 } });
  });

  it("does without a drill", () => {
    const steps = tourSteps(documentOf({ regions: [{ name: "fells", zones: ["fells-1"] }] }));
    expect(steps[1]?.words).toContain("What if fells-1 were lost?");
    expect(steps[2]?.search).toEqual({});
  });
});
