import { describe, expect, it } from "vitest";

import { documentOf } from "../../plan/testing";
import type { Schemas } from "../../api/client";
import { addingFault, happenings, movingStep, seriesAsCsv, usualFaults } from "./script";

const document = documentOf({
  regions: [{ name: "fells", zones: ["fells-1", "fells-2"] }],
  fleets: [{ name: "tiles", count: 2, zones: {} }],
  balancers: [{ name: "front", zones: { "fells-1": null } }],
  firewalls: [{ name: "open", allow_in: [] }, { name: "app", allow_in: [{ ports: ["80"], from: "any" }] }],
  clients: [{ name: "walkers", rps: 1, calls: [] }],
  drills: [{ name: "other" }, { name: "loss", lasts_s: 200, steps: [{ at_s: 60, fail: { zone: "fells-1" } }] }],
});

describe("usual faults", () => {
  it("name parts of this plan", () => {
    expect(usualFaults(document).map((one) => one.words)).toEqual([
      "zone fells-1 is lost",
      "zone fells-2 is lost",
      "region fells is lost",
      "instance tiles-1 goes silent",
      "the process on tiles-1 crashes",
      "tiles-1 becomes twenty times slower",
      "the fells-1 front of front dies",
      "the link from fells-1 to fells-2 is cut",
      "the first rule of app is withdrawn",
      "walkers ask three times as much",
      "tiles-1 drains",
      "tiles-1 is terminated",
      "tiles is scaled to 5",
    ]);
    expect(usualFaults(documentOf({}))).toEqual([]);
  });

  it("come at a second, are back two minutes later, and make the drill longer where they must", () => {
    const [zone] = usualFaults(document);
    expect(zone && addingFault(document, "loss", zone, 100)).toEqual([
      { op: "replace", path: "/drills/1/lasts_s", value: 280 },
      { op: "add", path: "/drills/1/steps/-", value: { at_s: 100, fail: { zone: "fells-1" } } },
      { op: "add", path: "/drills/1/steps/-", value: { at_s: 220, restore: { zone: "fells-1" } } },
    ]);
    expect(zone && addingFault(document, "nothing", zone, 1)).toEqual([]);
  });
});

describe("a step that is dragged", () => {
  it.each([
    [71.4, 71],
    [-5, 0],
    [999, 200],
  ])("to %s stands at second %s", (to, at) => {
    expect(movingStep(document, "loss", 0, to)).toEqual([{ op: "replace", path: "/drills/1/steps/0/at_s", value: at }]);
  });
});

describe("what happened", () => {
  const verdict = (at_s: number, about: string, word: string) => ({ at_s, kind: "verdict", about: [about], message: `${about} ${word}, says front in fells-1`, in_use: word !== "out" });

  it("tells verdicts that follow each other together", () => {
    const events = [
      { at_s: 60, kind: "fail", about: ["zone"], message: "zone fells-1 is lost", in_use: null },
      verdict(85, "t-1", "out"),
      verdict(86, "t-1", "out"),
      verdict(87, "t-2", "out"),
      verdict(90, "t-3", "out"),
      verdict(200, "t-1", "back in use"),
    ];
    expect(happenings(events)).toEqual([
      { kind: "fail", from_s: 60, to_s: 60, words: "zone fells-1 is lost" },
      { kind: "verdict", from_s: 85, to_s: 90, words: "t-1 … t-3: 3 targets out" },
      { kind: "verdict", from_s: 200, to_s: 200, words: "t-1 back in use" },
    ]);
  });
});

describe("a series as a table", () => {
  it("has a row for each event", () => {
    const series = { t_s: [0, 60], by_zone_rps: { "fells-1": [5, 4] }, mechanism_rps: { waiting: [0, 1] }, busiest: ["t-1", "t-1"], busiest_utilisation: [0.5, 0.6], latency_ms: [20, 21], stale_share: {} };
    expect(seriesAsCsv(series as unknown as Schemas["SeriesAnswer"])).toBe("t_s,served fells-1 /s,failed waiting /s,busiest,busiest utilisation,latency ms\r\n0,5,0,t-1,0.5,20\r\n60,4,1,t-1,0.6,21\r\n");
  });
});
