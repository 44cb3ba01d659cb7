import { describe, expect, it } from "vitest";

import { documentOf } from "../plan/testing";
import { fitting, freeAddress } from "./fitting";

describe("what is new", () => {
  it("scales from what there is today to twice as much", () => {
    const document = documentOf({ fleets: [{ count: 3 }, { count: 0 }] });
    const made = { min: 1, max: 1, target_utilisation: 1, every_s: 30 };
    expect(fitting(document, "/fleets/0/scale", made)).toEqual({ min: 3, max: 6, target_utilisation: 0.6, every_s: 30 });
    expect(fitting(document, "/fleets/1/scale", made)).toMatchObject({ min: 1, max: 2 });
  });

  it("is a subnet inside its network, beside the others", () => {
    const made = { name: "new", cidr: "198.18.0.0/24" };
    const at = (cidr: string, ...subnets: string[]) => fitting(documentOf({ networks: [{ cidr, subnets: subnets.map((one) => ({ cidr: one })) }] }), "/networks/0/subnets/-", made);
    expect(at("10.20.0.0/16")).toEqual({ name: "new", cidr: "10.20.0.0/24" });
    expect(at("10.20.0.0/16", "10.20.0.0/24", "10.20.1.0/26")).toEqual({ name: "new", cidr: "10.20.2.0/24" });
    expect(at("10.20.0.0/24", "10.20.0.0/25")).toEqual(made);
    expect(at("2001:db8::/48")).toEqual(made);
  });

  it("is a tier with a group that the pool has not yet", () => {
    const target_groups = [{ name: "tiles" }, { name: "page" }];
    const document = documentOf({ target_groups, pools: [{ tiers: [{ groups: { tiles: 1 } }] }, { tiers: [{ groups: { tiles: 1, page: 1 } }] }] });
    expect(fitting(document, "/pools/0/tiers/-", { groups: { tiles: 1 } })).toEqual({ groups: { page: 1 } });
    expect(fitting(document, "/pools/1/tiers/-", { groups: { tiles: 1 } })).toEqual({ groups: { tiles: 1 } });
  });

  it("is a step at the cursor: what is lost by then comes back", () => {
    const lost = { at_s: 60, fail: { zone: "fells-1" } };
    const steps = (...all: object[]) => documentOf({ drills: [{ lasts_s: 300, steps: all }] });
    const made = { at_s: 0, fail: { zone: "fells-2" } };
    expect(fitting(steps(), "/drills/0/steps/-", made, 30.4)).toEqual({ at_s: 30, fail: { zone: "fells-2" } });
    expect(fitting(steps(lost), "/drills/0/steps/-", made, 90)).toEqual({ at_s: 90, restore: { zone: "fells-1" } });
    expect(fitting(steps(lost), "/drills/0/steps/-", made)).toEqual({ at_s: 120, restore: { zone: "fells-1" } });
    expect(fitting(steps(lost), "/drills/0/steps/-", made, 30)).toMatchObject({ at_s: 30, fail: { zone: "fells-2" } });
    expect(fitting(steps(lost, { at_s: 100, restore: { zone: "fells-1" } }), "/drills/0/steps/-", made, 200)).toMatchObject({ at_s: 200, fail: { zone: "fells-2" } });
    expect(fitting(steps({ at_s: 290, surge: {} }), "/drills/0/steps/-", made)).toMatchObject({ at_s: 300 });
  });

  it("is an address that nobody has", () => {
    const target_groups = [{ targets: [{ address: "198.51.100.1" }, { address: "198.51.100.20" }] }];
    expect(freeAddress(documentOf({ target_groups }))).toBe("198.51.100.2");
    expect(freeAddress(documentOf({}))).toBe("198.51.100.1");
  });

  it("stays as it is elsewhere", () => {
    expect(fitting(documentOf({}), "/probes/-", { name: "new" })).toEqual({ name: "new" });
  });
});
