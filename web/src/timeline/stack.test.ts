import { expect, it } from "vitest";

import { timeAxis } from "./axis";
import { mostUntilNext, stack } from "./stack";

const series = {
  t_s: [0, 60],
  by_zone_rps: { "fells-1": [50, 30], "fells-2": [50, 0] },
  all_failed_rps: [0, 70],
  before: null,
};

it("stacks zones from the foot up and failures on top, step by step", () => {
  const axis = timeAxis(series.t_s, 120, 0, 120);
  const layers = stack(series, 120, axis, 100);
  expect(layers.map((layer) => layer.name)).toEqual(["fells-1", "fells-2", "failed"]);
  expect(layers[0]?.path).toBe("M0.0,50.0L60.0,50.0L60.0,70.0L120.0,70.0L120.0,100.0L60.0,100.0L60.0,100.0L0.0,100.0Z");
  expect(layers[2]?.path).toBe("M0.0,0.0L60.0,0.0L60.0,0.0L120.0,0.0L120.0,70.0L60.0,70.0L60.0,0.0L0.0,0.0Z");
  expect(layers[2]?.failed).toBe(true);
});

it("goes evenly where the engine says so, and jumps elsewhere", () => {
  const axis = timeAxis(series.t_s, 120, 0, 120);
  const before = { by_zone_rps: { "fells-1": [50, 30], "fells-2": [20, 0] }, mechanism_rps: {}, all_failed_rps: [30, 70], asked_rps: [100, 100], served_rps: [70, 30], busiest_utilisation: [], middle_utilisation: [], latency_ms: [], stale_share: {} };
  const layers = stack({ ...series, before }, 120, axis, 100);
  // 50 + 50 go down to 50 + 20, and the failing takes the rest; at 60 s both jump.
  expect(layers[1]?.path).toBe("M0.0,0.0L60.0,30.0L60.0,70.0L120.0,70.0L120.0,70.0L60.0,70.0L60.0,50.0L0.0,50.0Z");
  expect(layers[2]?.path).toBe("M0.0,0.0L60.0,0.0L60.0,0.0L120.0,0.0L120.0,70.0L60.0,70.0L60.0,30.0L0.0,0.0Z");
});

it("leaves room for what comes just before the next second", () => {
  const axis = timeAxis(series.t_s, 120, 0, 120);
  const before = { by_zone_rps: { "fells-1": [50, 30], "fells-2": [50, 0] }, mechanism_rps: {}, all_failed_rps: [100, 70], asked_rps: [200, 100], served_rps: [100, 30], busiest_utilisation: [], middle_utilisation: [], latency_ms: [], stale_share: {} };
  const layers = stack({ ...series, before }, 120, axis, 100);
  // 50 + 50 + 0 grow to 50 + 50 + 100: that fills the height.
  expect(layers[2]?.path).toBe("M0.0,50.0L60.0,0.0L60.0,50.0L120.0,50.0L120.0,85.0L60.0,85.0L60.0,50.0L0.0,50.0Z");
  expect(mostUntilNext({ values: [1, 5, 2], before: [3, 4, 2] })).toEqual([3, 5, 2]);
  expect(mostUntilNext({ values: [1, 5, 2] })).toEqual([1, 5, 2]);
});
