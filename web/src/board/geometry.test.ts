import { describe, expect, it } from "vitest";

import type { BoardState, PlanDocument } from "../api/client";
import { failsVisibly } from "./failing";
import { berthsPerLine, hostOf, isFolded, layOut, type Box } from "./geometry";
import { arcs, bandPath, bands, pixelsPerRps } from "./ribbons";

const document = {
  northgate: 1,
  name: "small",
  regions: [
    { name: "fells", zones: ["fells-1", "fells-2"] },
    { name: "coast", zones: ["coast-1"] },
  ],
  balancers: [
    { name: "front", zones: { "fells-1": null, "fells-2": null }, listeners: [] },
    { name: "inner", zones: { "fells-2": null }, listeners: [] },
    { name: "twin", zones: { "fells-1": null, "fells-2": null }, listeners: [] },
    { name: "coast-front", zones: { "coast-1": null }, listeners: [] },
  ],
  names: [
    { name: "inner.beckwater.example", answers: [{ balancer: "twin" }] },
    { name: "www.beckwater.example", answers: [{ balancer: "front" }] },
    { name: "api.beckwater.example", answers: [{ balancer: "front" }] },
    { name: "gauges.beckwater.example", answers: [{ balancer: "coast-front" }] },
  ],
  clients: ["a", "b", "c", "d", "e"].map((name) => ({ name, rps: 1, calls: [{ url: "https://gauges.beckwater.example/" }] })),
} as unknown as PlanDocument;

const rates = { rps: 100, served_rps: 90, failed_rps: 10 };
const state = {
  ...rates,
  zones: [{ name: "fells-1" }, { name: "fells-2" }, { name: "coast-1" }],
  groups: [{ name: "tiles" }, { name: "alerts" }],
  cells: [
    { group: "tiles", zone: "fells-1", targets: 30 },
    { group: "alerts", zone: "fells-2", targets: 3 },
  ],
  ribbons: [
    { source: "client:a", to: "name:www.beckwater.example", ...rates, failed_rps: 0 },
    { source: "name:www.beckwater.example", to: "balancer:front", ...rates },
    { source: "balancer:front", to: "front:front/fells-1", ...rates },
    { source: "front:front/fells-1", to: "zone:fells-1", ...rates },
    { source: "front:front/fells-1", to: "zone:fells-2", ...rates },
    { source: "front:front/fells-2", to: "zone:fells-1", ...rates, failed_rps: 0 },
  ],
} as unknown as BoardState;

function overlap(one: Box, other: Box): boolean {
  return one.x < other.x + other.width && other.x < one.x + one.width && one.y < other.y + other.height && other.y < one.y + one.height;
}

describe("the layout", () => {
  const layout = layOut(document, state, 964);

  it("puts zones side by side, regions apart, all within the width", () => {
    const [one, two, three] = layout.zones;
    if (!one || !two || !three) throw new Error("three zones are wanted");
    expect(two.x - (one.x + one.width)).toBe(6);
    expect(three.x - (two.x + two.width)).toBe(26);
    expect(three.x + three.width).toBeLessThanOrEqual(964);
  });

  it("gives what stands outside the plan a column of its own, behind all regions", () => {
    const zones = [...state.zones, { name: "outside" }] as BoardState["zones"];
    const wide = layOut(document, { ...state, zones }, 964);
    expect(wide.zones.map((box) => box.name)).toEqual(["fells-1", "fells-2", "coast-1", "outside"]);
    expect(wide.zones.at(-1)?.region).toBe("outside");
    // A zone of the plan may be called so, too.
    const called = { ...document, regions: document.regions.map((one) => ({ ...one, zones: one.zones.map((zone) => (zone === "fells-2" ? "outside" : zone)) })) };
    const both = [{ name: "outside" }, { name: "outside the plan" }] as BoardState["zones"];
    expect(layOut(called, { ...state, zones: both }, 964).zones.map((box) => box.name)).toEqual(["fells-1", "outside", "coast-1", "outside the plan"]);
    expect((wide.zones[3]?.x ?? 0) - ((wide.zones[2]?.x ?? 0) + (wide.zones[2]?.width ?? 0))).toBe(26);
  });

  it("lets no two boxes of a row overlap", () => {
    for (const row of [layout.clients, layout.names, layout.balancers, layout.fronts, layout.zones]) {
      for (const [index, box] of row.entries()) {
        expect(row.slice(index + 1).filter((other) => overlap(box, other))).toEqual([]);
      }
    }
  });

  it("gives a balancer that shares a zone with another a lane of its own", () => {
    expect(layout.balancers.map((box) => box.y)).toEqual([130, 196, 262, 130]);
  });

  it("puts each front at the foot of its balancer, in its zone", () => {
    for (const front of layout.fronts) {
      const zone = layout.zones.find((box) => box.name === front.zone);
      expect(front.x).toBeGreaterThanOrEqual(zone?.x ?? Infinity);
      expect(front.x + front.width).toBeLessThanOrEqual((zone?.x ?? 0) + (zone?.width ?? 0));
    }
  });

  it("folds cells with very many targets and gives rows room for the others", () => {
    expect(isFolded(30, 150)).toBe(berthsPerLine(150, 24) * 3 < 30);
    const [tiles, alerts] = layout.rows;
    expect(alerts?.y).toBe((tiles?.y ?? 0) + (tiles?.height ?? 0));
  });
});

describe("ribbons", () => {
  const layout = layOut(document, state, 964);

  it("are as wide as their rate, and as red as their failing share", () => {
    expect(pixelsPerRps(state)).toBeCloseTo(0.46);
    const drawn = bands(state, layout).sort((a, b) => a.key.localeCompare(b.key));
    expect(drawn.map((band) => [band.key, band.failing !== null])).toEqual([
      ["client:a>name:www.beckwater.example", false],
      ["front:front/fells-1>zone:fells-1", true],
      ["name:www.beckwater.example>balancer:front", true],
    ]);
  });

  it("fall straight down onto what is wide and right below", () => {
    const down = bands(state, layout).find((band) => band.to === "balancer:front");
    const [, fromX, , , , , , toX] = /^M([\d.]+),([\d.]+)C([\d.]+),([\d.]+) ([\d.]+),([\d.]+) ([\d.]+),/.exec(down?.path ?? "") ?? [];
    expect(Number(toX)).toBeCloseTo(Number(fromX), 0);
  });

  it("keep their width from end to end", () => {
    expect(bandPath(100, 0, 200, 40, 20)).toBe("M90.0,0.0C90.0,20.0 190.0,20.0 190.0,40.0H210.0C210.0,20.0 110.0,20.0 110.0,0.0Z");
  });

  it("cross zones where they fail, and for what is selected", () => {
    expect(arcs(state, layout, undefined).map((arc) => arc.key)).toEqual(["front:front/fells-1>zone:fells-2"]);
    expect(arcs(state, layout, "front:front/fells-2").map((arc) => arc.failing)).toEqual([true, false]);
  });
});

it("reads the host of a URL", () => {
  expect(["https://WWW.a.example:8443/x", "http://[2001:db8::1]:80/", "nonsense"].map(hostOf)).toEqual(["www.a.example", "2001:db8::1", ""]);
});

it.each([
  [100, 0, false],
  [100, 0.0009, false],
  [100, 0.002, true],
  [0, 0, false],
])("draws what fails of %d/s when it is %d/s: %s", (rps, failed_rps, drawn) => {
  expect(failsVisibly({ rps, failed_rps })).toBe(drawn);
});

describe("a board with room to spare", () => {
  const tight = layOut(document, state, 964);
  const roomy = layOut(document, state, 964, undefined, 900);

  it("lets berths and rows grow, and never beyond what there is", () => {
    expect(tight.berth).toBe(24);
    expect(roomy.berth).toBe(40);
    expect(roomy.height).toBeGreaterThan(tight.height);
    for (const room of [400, 500, 600, 700, 900]) expect(layOut(document, state, 964, undefined, room).height).toBeLessThanOrEqual(Math.max(room, tight.height));
  });

  it("keeps rows one below the other", () => {
    const [one, two] = roomy.rows;
    expect(two?.y).toBe((one?.y ?? 0) + (one?.height ?? 0));
  });
});
