import { describe, expect, it } from "vitest";

import { pieces, timeAxis , busySeconds } from "./axis";

describe("the time axis", () => {
  it("is whole and linear when something happens all along", () => {
    const axis = timeAxis([0, 30, 60, 90], 120, 100, 220);
    expect(axis.breaks).toEqual([]);
    expect([0, 60, 120].map(axis.x)).toEqual([100, 160, 220]);
  });

  it("is broken over quiet stretches only", () => {
    expect(pieces([60, 95, 540], 900)).toEqual([
      { from: 0, to: 115, broken: false },
      { from: 115, to: 520, broken: true },
      { from: 520, to: 560, broken: false },
      { from: 560, to: 900, broken: true },
    ]);
  });

  it("gives every second a place, and every place its second", () => {
    const axis = timeAxis([60, 95, 540], 900, 0, 800);
    for (let second = 0; second < 900; second += 7) {
      expect(axis.second(axis.x(second))).toBeCloseTo(second, 6);
      expect(axis.x(second + 7)).toBeGreaterThan(axis.x(second));
    }
  });

  it("stays within the drill when asked beyond it", () => {
    const axis = timeAxis([60], 300, 10, 210);
    expect(axis.second(-50)).toBe(0);
    expect(axis.second(9999)).toBe(300);
  });

  it("marks no two ticks too close to read", () => {
    const axis = timeAxis([60, 95, 540, 700], 900, 0, 800);
    const places = axis.ticks.map(axis.x);
    for (let index = 1; index < places.length; index++) {
      expect((places[index] ?? 0) - (places[index - 1] ?? 0)).toBeGreaterThanOrEqual(40);
    }
  });

  it("marks nothing where it says how long is left out", () => {
    for (const last of [600, 620, 640, 660]) {
      const axis = timeAxis(Array.from({ length: last / 20 }, (_, index) => index * 20), 900, 0, 800);
      expect(axis.breaks).toHaveLength(1);
      for (const tick of axis.ticks) expect(Math.abs(axis.x(tick) - (axis.breaks[0]?.x ?? 0))).toBeGreaterThanOrEqual(52);
    }
  });
});

describe("what moves", () => {
  it("is not quiet, however long it takes", () => {
    expect(busySeconds([0, 60, 70], [false, true, false], 900)).toEqual([0, 60, 70]);
    expect(busySeconds([0, 60], [false, true], 160)).toEqual([0, 60, 100, 140]);
  });
});
