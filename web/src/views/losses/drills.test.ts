import { describe, expect, it } from "vitest";

import type { PlanDocument } from "../../api/client";
import type { Loss } from "../../plan/judging";
import { darkness, drillOf, pairOf, pairsOf } from "./drills";

function row(parts: Loss["parts"], of: string[]): Loss {
  return { parts, of, words: of.join(" and "), failed_requests: 10 } as unknown as Loss;
}

function plan(...names: string[]): PlanDocument {
  return { drills: names.map((name) => ({ name })) } as unknown as PlanDocument;
}

describe("a drill of a loss", () => {
  it("loses its parts together at the first minute, under a name that is free", () => {
    const one = drillOf(plan("lose-fells-2"), row([{ zone: "fells-2" }], ["zone fells-2"]));
    expect(one.name).toBe("lose-fells-2-2");
    expect(one.value).toMatchObject({ phases: "worst", steps: [{ at_s: 60, fail: { zone: "fells-2" } }] });
    const two = drillOf(plan(), row([{ front: { balancer: "front", zone: "fells-1" } }, { firewall: "app", rule: 0 }], ["a", "b"]));
    expect(two.name).toBe("lose-front-fells-1-and-firewall-app-rule-0");
    expect((two.value as { steps: unknown[] }).steps).toHaveLength(2);
  });

  it("has a name that a plan takes, whatever the part is called", () => {
    const long = drillOf(plan(), row([{ page: "/a/very/long/health/page/that/goes/on/and/on/and/on/for/ever", status: 503, instance: "tiles-1" }], ["a"]));
    expect(long.name).toMatch(/^[a-z]([a-z0-9-]{0,61}[a-z0-9])?$/);
  });
});

describe("pairs", () => {
  const [a, b, both] = [row([{ zone: "a" }], ["zone a"]), row([{ zone: "b" }], ["zone b"]), row([{ zone: "a" }, { zone: "b" }], ["zone a", "zone b"])];
  it("are found in whichever order they are told, among classes that are in any pair", () => {
    const alone = row([{ process: "c" }], ["process of c"]);
    const { classes, pairs } = pairsOf([a, alone, both, b]);
    expect(classes).toEqual([a, b]);
    expect(pairOf(pairs, a, b)).toBe(both);
    expect(pairOf(pairs, b, a)).toBe(both);
    expect(pairOf(pairs, a, a)).toBeUndefined();
  });

  it("are darker the more fails, and white only where nothing does", () => {
    expect(darkness(0, 1000)).toBe(0);
    expect(darkness(1000, 1000)).toBe(1);
    expect(darkness(1, 1e9)).toBeGreaterThan(0);
    expect(darkness(10, 1000)).toBeLessThan(darkness(100, 1000));
    expect(darkness(1, 0)).toBe(0);
  });
});
