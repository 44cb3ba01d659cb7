import { describe, expect, it } from "vitest";

import type { DrillAnswer, PlanDocument } from "../../api/client";
import { rowAt } from "./layout";
import { eventAt, explainFailed, explainLatency, explainServed, explainSessions, explainStale, explainUtilisation, sayRow } from "./readout";

const drill = {
  name: "loss",
  series: {
    t_s: [0, 60, 90],
    asked_rps: [100, 100, 120],
    all_failed_rps: [0, 50, 0],
    held: [30, 30, 30],
    by_zone_rps: { "fells-1": [50, 50, 120], "fells-2": [50, 0, 0] },
    mechanism_rps: { waiting: [0, 40, 0], dead_front: [0, 10, 0] },
    busiest: ["tiles-1", "tiles-1", "tiles-1"],
    busiest_utilisation: [0.5, 0.5, 1.25],
    busiest_offered_rps: [40, 40, 100],
    busiest_capacity_rps: [80, 80, 80],
    busiest_growth: [0, 0, 0.25],
    busiest_excess: [0, 0, 0.2],
    middle_utilisation: [0.4, 0.4, 0.6],
    stale_share: { "www.beckwater.example": [0, 1, 0.25] },
    sessions: { "fells-1": [10, 10, 30], "fells-2": [20, 20, 0] },
    latency_ms: [21, 21, 2500],
  },
} as unknown as DrillAnswer;
const document = {
  names: [{ name: "www.beckwater.example", ttl_s: 30 }],
} as unknown as PlanDocument;

describe("what charts say at a second", () => {
  it("goes by the last event up to it", () => {
    expect([0, 59.9, 60, 89, 500].map((second) => eventAt(drill.series.t_s, second))).toEqual([0, 0, 1, 1, 2]);
  });

  it("reads what goes evenly off its line", () => {
    const before = { ...drill.series, asked_rps: [100, 100, 120], all_failed_rps: [0, 20, 0], mechanism_rps: { waiting: [0, 10, 0], dead_front: [0, 10, 0] }, by_zone_rps: { "fells-1": [50, 50, 120], "fells-2": [50, 30, 0] }, latency_ms: [21, 41, 2500] };
    const fading = { ...drill, lasts_s: 120, series: { ...drill.series, before } } as DrillAnswer;
    expect(explainServed(fading)(80)).toBe("100/s asked = fells-1 50 + fells-2 20 served + 30 failed");
    expect(explainFailed(fading)(80)).toBe("30/s fail = waiting for verdicts 20 + dead front 10");
    expect(explainLatency(fading)(75)).toContain("31 ms");
  });

  it("adds up what is served and what fails", () => {
    expect(explainServed(drill)(70)).toBe("100/s asked = fells-1 50 served + 50 failed");
    expect(explainFailed(drill)(70)).toBe("50/s fail = waiting for verdicts 40 + dead front 10");
    expect(explainFailed(drill)(95)).toBe("nothing fails");
  });

  it("says what the busiest is offered, can do, and refuses", () => {
    expect(explainUtilisation(drill)(10)).toBe("busiest tiles-1: offered 40/s / capacity 80/s = 50 %; the middle one 40 %");
    expect(explainUtilisation(drill)(95)).toContain("its backlog grows by u - 1 = 0.3 s a second up to its queue, then the share 1 - 1/u = 20 % is refused");
  });

  it("tells shares of old answers, sessions and latency", () => {
    expect(explainStale(drill, document)(95)).toContain("25 % of its clients still follow an older answer; who keeps answers for D = 30 s");
    expect(explainSessions(drill)(0)).toContain("30 held = fells-1 10 + fells-2 20");
    expect(explainLatency(drill)(0)).toContain("21 ms = round trip");
    expect(explainLatency(drill)(95)).toContain("2.5 s = round trip");
    expect(sayRow("Failed", 95, explainFailed(drill))).toBe("Failed at 1:35: nothing fails");
  });

  it("finds the row under the pointer", () => {
    const rows = [{ name: "Served", top: 50, height: 100, explain: () => "" }, { name: "Failed", top: 164, height: 70, explain: () => "" }];
    expect([49, 50, 149, 155, 200].map((y) => rowAt(rows, y)?.name)).toEqual([undefined, "Served", "Served", undefined, "Failed"]);
  });
});
