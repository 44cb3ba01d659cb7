import { describe, expect, it } from "vitest";

import type { DrillAnswer } from "../../api/client";
import { blindFormula } from "./formula";

const sum = { first_s: 0, beats: 2, beat_s: 10, answer_s: 5 };
const row = (changes: object) =>
  ({ change: "down", blind_s: 27.5, earliest_s: 25, latest_s: 35, bounds: { earliest_s: 25, latest_s: 35, earliest: sum, latest: { ...sum, first_s: 10 } }, ...changes }) as unknown as DrillAnswer["blind"][number];

describe("the formula of a blind time", () => {
  it("has the numbers of both bounds in it", () => {
    expect(blindFormula(row({}))).toBe("27.5 s in this run; 0 to 10 until a probe + 2 × 10 between probes + 5 to give up or answer: 25 to 35 s possible");
  });

  it("counts passes when a target comes back", () => {
    const bounds = { earliest_s: 10.02, latest_s: 25.5, earliest: { ...sum, beats: 1, answer_s: 0.02 }, latest: { first_s: 15, beats: 1, beat_s: 10, answer_s: 0.5 } };
    const back = row({ change: "up", blind_s: 12, earliest_s: 10.02, latest_s: 25.5, bounds });
    expect(blindFormula(back)).toBe("12 s in this run; 0 to 15 until a probe + 1 × 10 between probes + 0.02 to give up or answer up to 1 × 10 between probes + 0.5 to give up or answer: 10.02 to 25.5 s possible");
  });

  it("says that nobody notices", () => {
    expect(blindFormula(row({ blind_s: 40, bounds: null, unseen: true }))).toBe("40 s in this run; no probe asks about what was lost, so nobody notices");
  });
});
