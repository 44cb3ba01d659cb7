import { describe, expect, it } from "vitest";

import type { DrillAnswer, PlanDocument } from "../../api/client";
import { blindFormula } from "./formula";

const document = { probes: [{ name: "ready", interval_s: 10, timeout_s: 5, unhealthy_after: 3, healthy_after: 2 }] } as unknown as PlanDocument;
const row = (changes: object) => ({ probe: "ready", change: "down", blind_s: 27.5, earliest_s: 25, latest_s: 35, ...changes }) as unknown as DrillAnswer["blind"][number];

describe("the formula of a blind time", () => {
  it("has the plan's numbers in it", () => {
    expect(blindFormula(row({}), document)).toBe("27.5 s in this run; (n - 1) I + T to n I + T = 2 × 10 + 5 to 3 × 10 + 5: 25 to 35 s possible");
    expect(blindFormula(row({ blind_s: 22, earliest_s: 20, latest_s: 30 }), document)).toContain("known at once: (n - 1) I to n I = 2 × 10 to 3 × 10");
    expect(blindFormula(row({ blind_s: 40, earliest_s: null, latest_s: null, unseen: true }), document)).toBe("40 s in this run; no probe asks about what was lost, so nobody notices");
    expect(blindFormula(row({ change: "up", blind_s: 12, earliest_s: 10.02, latest_s: 20.02 }), document)).toContain("1 × 10 + 0.02 to 2 × 10 + 0.02: 10.02 to 20.02 s possible");
  });

  it("says what is known when the probe has gone", () => {
    expect(blindFormula(row({ probe: "gone" }), document)).toBe("27.5 s in this run");
  });
});
