import { describe, expect, it } from "vitest";

import { adopting, isNow, readAxis, strength, writeAxis } from "./heat";

const AXES = [
  { path: "probes/ready/interval_s", place: "/probes/0/interval_s", now: 10, values: [5, 10] },
  { path: "names/www/ttl_s", place: "/names/0/ttl_s", now: 60, values: [30, 60, 90] },
];

describe("a sweep", () => {
  it("reads an axis as it writes it", () => {
    const axis = { path: "probes/ready/interval_s", low: "2", high: "30", step: "0.5" };
    expect(readAxis(writeAxis(axis))).toEqual(axis);
    expect(readAxis("probes/ready/interval_s=2")).toEqual({ ...axis, high: "2", step: "1" });
    expect(readAxis("probes/ready")).toBeUndefined();
  });

  it("is strongest where most fails", () => {
    const values = [[10, null], [30, 20]];
    expect([10, 20, 30, null].map((one) => strength(values, one))).toEqual([0, 0.5, 1, 0]);
    expect(strength([[7, 7]], 7)).toBe(0);
  });

  it("knows the plan's own cell, and how to become another", () => {
    expect([isNow(AXES, 1, 1), isNow(AXES, 0, 1), isNow(AXES.slice(0, 1), 1, 0)]).toEqual([true, false, true]);
    expect(adopting(AXES, 0, 2)).toEqual([
      { op: "replace", path: "/probes/0/interval_s", value: 5 },
      { op: "replace", path: "/names/0/ttl_s", value: 90 },
    ]);
  });
});
