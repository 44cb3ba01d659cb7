import { describe, expect, it } from "vitest";

import { documentOf } from "../plan/testing";
import { canStandAt, freeName, namesFor, placeOf, valueAt } from "../plan/names";
import { alternatives, blankItem, blankObject, fieldInfo, filled, label, propertyNamed, unit, type Schema } from "./schema";

const root: Schema = {
  $defs: {
    Probe: {
      type: "object",
      required: ["name"],
      properties: {
        name: { type: "string", "x-sample": "new" },
        interval_s: { type: "number", exclusiveMinimum: 0, default: 10 },
        port: { anyOf: [{ const: "same" }, { type: "integer", minimum: 1 }], default: "same" },
        host: { anyOf: [{ type: "string" }, { type: "null" }], default: null },
        expect: { type: "array", items: { type: "string" } },
      },
    },
    Target: {
      type: "object",
      oneOf: [{ required: ["instance"] }, { required: ["fleet"] }],
      properties: { instance: { anyOf: [{ type: "string", "x-refers-to": "instance" }, { type: "null" }] }, fleet: { anyOf: [{ type: "string", "x-refers-to": "fleet" }, { type: "null" }] } },
    },
    Tier: { type: "object", required: ["groups"], properties: { groups: { type: "object", additionalProperties: { type: "integer" }, minProperties: 1, propertyNames: { "x-refers-to": "target_group" } } } },
  },
};
const probe = root.$defs?.["Probe"]?.properties ?? {};

describe("fields made from the schema", () => {
  it.each([
    ["interval_s", { kind: "number", whole: false, least: 0, most: undefined }, false],
    ["port", { kind: "text" }, false],
    ["host", { kind: "text" }, true],
  ])("%s", (name, field, nullable) => {
    expect(fieldInfo(root, probe[name] ?? {})).toMatchObject({ field, nullable });
  });

  it("know references, in values and in keys", () => {
    const target = root.$defs?.["Target"]?.properties?.["fleet"] ?? {};
    expect(fieldInfo(root, target)).toMatchObject({ field: { kind: "reference", to: "fleet" }, nullable: true });
    const groups = root.$defs?.["Tier"]?.properties?.["groups"] ?? {};
    expect(fieldInfo(root, groups).field).toMatchObject({ kind: "map", keys: "target_group", of: { kind: "number" } });
  });

  it("follow references into the definitions", () => {
    expect(fieldInfo(root, { $ref: "#/$defs/Probe" }).field.kind).toBe("object");
  });

  it("are blank only where something is required", () => {
    expect(blankObject(root, root.$defs?.["Probe"] ?? {}, () => [])).toEqual({ name: "new" });
    expect(blankObject(root, root.$defs?.["Target"] ?? {}, () => ["tiles"])).toMatchObject({ instance: "tiles" });
    expect(blankObject(root, root.$defs?.["Tier"] ?? {}, () => ["tiles"])).toEqual({ groups: { tiles: 1 } });
  });

  it("start as something that the plan accepts, under a name that no sibling has", () => {
    const subnet: Schema = { type: "object", required: ["name", "cidr"], properties: { name: { type: "string", "x-sample": "new" }, cidr: { type: "string", "x-sample": "198.18.0.0/24" } } };
    expect(blankItem(root, subnet, [{ name: "new-1" }], () => [])).toEqual({ name: "new-2", cidr: "198.18.0.0/24" });
    const bound: Schema = { type: "object", required: ["reading"], properties: { reading: { enum: ["failed", "requests"] }, at_most: { type: "number" } } };
    expect(blankItem(root, bound, [], () => [])).toEqual({ reading: "failed", at_most: 0 });
    expect(blankItem(root, { type: "array", minItems: 2, items: { type: "number" } }, [], () => [])).toEqual([0, 0]);
  });

  it("know what goes beside the one that leads", () => {
    const part: Schema = { oneOf: [{ required: ["page", "status"], "x-beside": ["status", "instance"] }, { required: ["zone"] }] };
    expect(alternatives(part)).toEqual([
      { name: "page", needed: ["status"], beside: ["status", "instance"] },
      { name: "zone", needed: [], beside: [] },
    ]);
  });

  it("have the names and units that the schema gives them", () => {
    const property = { "x-label": "Every", "x-unit": "s" };
    const root = { $defs: { Probe: { properties: { interval_s: property } } } };
    expect(propertyNamed(root, "interval_s")).toBe(property);
    expect([label("interval_s", property), unit(property)]).toEqual(["Every", "s"]);
    expect([label("try_others", undefined), unit(undefined)]).toEqual(["Try others", ""]);
  });
});

describe("names of a plan", () => {
  const document = documentOf({
    northgate: 1,
    name: "small",
    regions: [{ name: "fells", zones: ["fells-1"] }],
    probes: [{ name: "probe" }, { name: "ready" }],
    fleets: [{ name: "tiles", zones: {}, count: 2, instance: { fault_domain: "rack-1" } }],
  });

  it("are offered by the kind that a reference asks for", () => {
    expect(namesFor(document, "any instance")).toEqual(["tiles-1", "tiles-2"]);
    expect(namesFor(document, "zone or region")).toEqual(["fells-1", "fells"]);
    expect(namesFor(document, "fault_domain")).toEqual(["rack-1"]);
    expect(namesFor(document, "probe")).toEqual(["probe", "ready"]);
    expect(namesFor(document, "nonsense")).toEqual([]);
  });

  it("do not offer cookies where only balancers of layer 4 lead", () => {
    const listener = (pool: string) => ({ rules: [], otherwise: { pool } });
    const plan = (layers: number[]) =>
      documentOf({
        target_groups: [{ name: "tiles" }, { name: "loose" }],
        pools: [{ name: "web", tiers: [{ groups: { tiles: 1 } }] }],
        balancers: layers.map((layer) => ({ layer, listeners: [listener("web")] })),
      });
    const by = "/target_groups/0/affinity/by";
    expect([[4], [7], [4, 7], []].map((layers) => canStandAt(plan(layers), by, "cookie"))).toEqual([false, true, true, true]);
    expect(canStandAt(plan([4]), by, "source")).toBe(true);
    expect(canStandAt(plan([4]), "/target_groups/1/affinity/by", "cookie")).toBe(true);
  });

  it("have a place, and new ones are free", () => {
    expect(placeOf(document, "probe", "ready")).toBe("/probes/1");
    expect(valueAt(document, "/probes/1/name")).toBe("ready");
    expect(placeOf(document, "probe", "nope")).toBeUndefined();
    expect(freeName(document, "probe")).toBe("probe-2");
  });
});

describe("what is left out", () => {
  const probeSchema = root.$defs?.["Probe"] ?? {};

  it("is filled in as by default, however deep", () => {
    expect(filled(root, probeSchema, { name: "a", port: 80 })).toEqual({ name: "a", interval_s: 10, port: 80, host: null });
    const list: Schema = { type: "array", items: { $ref: "#/$defs/Probe" } };
    const whole: Schema = { type: "object", properties: { probes: list, layer: { enum: [4, 7], default: 7 } } };
    expect(filled(root, whole, { probes: [{ name: "a", interval_s: 5 }] })).toEqual({ layer: 7, probes: [{ name: "a", interval_s: 5, port: "same", host: null }] });
  });

  it("is not made up where nothing stands, nor shared between two", () => {
    expect(filled(root, { anyOf: [{ $ref: "#/$defs/Probe" }, { type: "null" }] }, null)).toBeNull();
    const schema: Schema = { type: "object", properties: { rules: { type: "array", items: { type: "string" }, default: [] } } };
    const [one, other] = [filled(root, schema, {}), filled(root, schema, {})] as { rules: string[] }[];
    expect(one?.rules).not.toBe(other?.rules);
  });
});
