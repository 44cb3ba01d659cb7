import { describe, expect, it } from "vitest";

import { nextEvent } from "./moving";

describe("events of a drill", () => {
  const times = [0, 60, 65, 95];

  it("are stepped to and from, also from between two", () => {
    expect([nextEvent(times, 60, 1), nextEvent(times, 60, -1), nextEvent(times, 70, -1), nextEvent(times, 70, 1)]).toEqual([2, 0, 2, 3]);
    expect([nextEvent(times, 0, -1), nextEvent(times, 95, 1)]).toEqual([0, 3]);
  });
});
