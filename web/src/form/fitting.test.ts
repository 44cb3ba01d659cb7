import { describe, expect, it } from "vitest";

import { documentOf } from "../plan/testing";
import { fitting } from "./fitting";

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

  it("stays as it is elsewhere", () => {
    expect(fitting(documentOf({}), "/probes/-", { name: "new" })).toEqual({ name: "new" });
  });
});
