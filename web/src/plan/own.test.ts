import { describe, expect, it } from "vitest";
import type { BoardState } from "../api/client";
import { plainSelection, withOwnAddresses } from "./own";
import { documentOf } from "./testing";

const document = documentOf({
  instances: [{ name: "maps-1", zone: "fells-1", public_address: "203.0.113.40" }],
  balancers: [{ name: "front" }],
  names: [{ name: "a.example", answers: [{ instance: "maps-1" }, { address: "203.0.113.40" }, { balancer: "front" }] }],
});
const state = (...names: string[]) => ({ balancers: names.map((name) => ({ name, fronts: [{ zone: "fells-1" }], listeners: [{ name: "tcp-443" }] })) }) as unknown as BoardState;

describe("an instance that is asked itself", () => {
  it("is drawn as a balancer of its own to which its names lead", () => {
    const drawn = withOwnAddresses(document, state("front", "maps-1 itself"));
    expect(drawn.balancers.map((one) => one.name)).toEqual(["front", "maps-1 itself"]);
    expect(drawn.balancers[1]).toMatchObject({ layer: 4, zones: { "fells-1": null }, listeners: [{ protocol: "tcp", port: 443 }] });
    expect(drawn.names[0]?.answers.map((one) => one.balancer)).toEqual(["maps-1 itself", "maps-1 itself", "front"]);
  });

  it("is nothing where nobody asks it", () => {
    expect(withOwnAddresses(document, state("front"))).toBe(document);
  });

  it.each([
    [{ kind: "balancer", name: "maps-1 itself" }, { kind: "instance", name: "maps-1" }],
    [{ kind: "front", name: "maps-1 itself/fells-1" }, { kind: "instance", name: "maps-1" }],
    [{ kind: "berth", name: "maps-1 itself/maps-1" }, { kind: "berth", name: "maps-1 itself/maps-1" }],
    [{ kind: "balancer", name: "front" }, { kind: "balancer", name: "front" }],
  ] as const)("is selected as itself: %j", (selection, plain) => {
    expect(plainSelection(selection)).toEqual(plain);
  });
});
