import { describe, expect, it } from "vitest";

import { points, rateAt, type Course } from "./over";

/** Nothing, then from 100 evenly to 60, from which it jumps to 50. */
const COURSE: Course = { t_s: [0, 10, 20], rps: [0, 100, 50], before: [0, 60, 50], lasts_s: 40 };

describe("two drills laid over each other", () => {
  it("goes evenly to what a rate is before the next event, and jumps there", () => {
    expect([0, 9, 10, 15, 20, 39].map((second) => rateAt(COURSE, second))).toEqual([0, 0, 100, 80, 50, 50]);
  });

  it("draws steps and slopes from the left to the right edge", () => {
    expect(points(COURSE, 400, 100, 40, 100)).toBe("0.0,100.0 100.0,100.0 100.0,0.0 200.0,40.0 200.0,50.0 400.0,50.0");
  });

  it("draws nothing as a line at the foot", () => {
    expect(points({ ...COURSE, rps: [0, 0, 0], before: [0, 0, 0] }, 4, 10, 40, 0)).not.toMatch(/NaN/);
  });
});
