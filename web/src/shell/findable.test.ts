import { describe, expect, it } from "vitest";
import { documentOf } from "../plan/testing";
import { best, findable } from "./findable";

const document = documentOf({
  regions: [{ name: "fells", zones: ["fells-1"] }],
  networks: [{ name: "net", region: "fells", cidr: "10.0.0.0/16", subnets: [{ name: "app", cidr: "10.0.1.0/24" }] }],
  instances: [{ name: "maps-1", zone: "fells-1" }],
  fleets: [{ name: "tiles", zones: { "fells-1": null }, count: 12, instance: {} }],
  target_groups: [{ name: "web", port: 80, targets: [{ fleet: "tiles" }, { instance: "maps-1" }, { host: "partner.beckwater.example" }] }],
  balancers: [{ name: "front", zones: { "fells-1": null }, listeners: [{ name: "https", protocol: "https", port: 443, rules: [{ name: "maps", when: {}, do: {} }], otherwise: {} }] }],
  drills: [{ name: "lose-fells-1", title: "a wet evening", steps: [] }],
});

describe("what can be found", () => {
  const first = (typed: string) => best(findable(document), typed, 5)[0];

  it.each([
    ["tiles-7", { select: { kind: "berth", name: "web/tiles-7" } }],
    ["wet evening", { drill: "lose-fells-1" }],
    ["lose-fells", { drill: "lose-fells-1" }],
    ["front fells-1", { select: { kind: "front", name: "front/fells-1" } }],
    ["app", { select: { kind: "network", name: "net" } }],
    ["443", { select: { kind: "listener", name: "front/https" } }],
    ["rule maps", { select: { kind: "listener", name: "front/https" } }],
    ["partner", { select: { kind: "berth", name: "web/partner.beckwater.example" } }],
    ["tiles fleet", { select: { kind: "fleet", name: "tiles" } }],
  ])("%s", (typed, to) => {
    expect(first(typed)?.to).toEqual(to);
  });

  it("puts whole names before beginnings, and these before what is found within", () => {
    const items = ["maps-10", "new-maps-1", "maps-1"].map((title) => ({ title, words: "" }));
    expect(best(items, "maps-1", 9).map((one) => one.title)).toEqual(["maps-1", "maps-10", "new-maps-1"]);
    expect(best(items, "maps-1", 1)).toHaveLength(1);
    expect(best(items, "tiles", 9)).toEqual([]);
  });
});
