import { describe, expect, it } from "vitest";
import type { Schema } from "../../../form/schema";
import { documentOf } from "../../../plan/testing";
import { alongside, patchedDocument } from "./draft";
import { ASKED, OFFERED } from "./kinds";
import { following, proposed } from "./proposed";

const root: Schema = { $defs: Object.fromEntries(OFFERED.flatMap((kind) => ASKED[kind].map((one) => [one.definition, { type: "object", properties: {}, required: [] }]))) };
const instance = (name: string, zone: string, port = 9000) => ({ name, zone, serves: [{ port, protocol: "http" }] });
const document = documentOf({
  regions: [{ name: "fells", zones: ["fells-1", "fells-2", "fells-3"] }],
  areas: [{ name: "uplands", latency_ms: {} }],
  instances: [instance("maps-1", "fells-2"), instance("maps-2", "fells-3")],
  target_groups: [{ name: "old", targets: [{ instance: "maps-1" }] }, { name: "new", targets: [] }],
  pools: [{ name: "used", tiers: [{ groups: { old: 1 } }] }, { name: "spare", tiers: [{ groups: { old: 1 } }] }],
  certificates: [{ name: "public" }],
  balancers: [{ name: "front", layer: 7, zones: { "fells-1": null }, listeners: [{ name: "http", protocol: "http", port: 8080, rules: [], otherwise: { pool: "used" } }] }],
  names: [{ name: "www.beckwater.example", answers: [{ balancer: "front" }] }],
});

describe("what is proposed", () => {
  const value = (kind: Parameters<typeof proposed>[2]) => proposed(document, root, kind).value;

  it.each([
    ["group", { port: 9000, protocol: "http", targets: [{ instance: "maps-2" }] }],
    ["pool", { tiers: [{ groups: { new: 1 } }] }],
    ["balancer", { zones: { "fells-2": null, "fells-3": null }, listeners: [{ name: "https", protocol: "https", port: 443, certificate: "public", otherwise: { pool: "spare" } }] }],
    ["client", { area: "uplands", calls: [{ url: "http://www.beckwater.example:8080/" }] }],
    ["drill", { steps: [{ at_s: 60, fail: { zone: "fells-2" } }, { at_s: 360, restore: { zone: "fells-2" } }] }],
    ["area", { latency_ms: { fells: 20 } }],
    ["certificate", { hosts: ["www.beckwater.example"] }],
  ] as const)("for a %s is what nothing has yet", (kind, wanted) => {
    expect(value(kind)).toMatchObject(wanted);
  });

  it("for a listener stands behind those of its balancer", () => {
    expect(proposed(document, root, "listener", "front")).toMatchObject({ path: "/balancers/0/listeners/1", value: { protocol: "https", port: 443 } });
  });

  it("for a region takes along how far it is from every area", () => {
    expect(following(document, "region", "coast")).toEqual([{ op: "add", path: "/areas/0/latency_ms/coast", value: 30 }]);
    expect(following(document, "pool", "spare")).toEqual([]);
  });
});

describe("an edit of something new", () => {
  const balancer = { listeners: [{ name: "https", protocol: "https" }, { name: "own", protocol: "http" }] };
  const values = (patch: Parameters<typeof alongside>[2]) => alongside(balancer, "/balancers/1", patch).map(({ path, value }) => [path.replace("/balancers/1", ""), value]);

  it("of the layer takes its listeners along, and those names that say what they speak", () => {
    expect(values([{ op: "replace", path: "/balancers/1/layer", value: 4 }])).toEqual([
      ["/layer", 4],
      ["/listeners/0/protocol", "tcp"],
      ["/listeners/0/name", "tcp"],
      ["/listeners/1/protocol", "tcp"],
    ]);
    expect(values([{ op: "replace", path: "/balancers/1/layer", value: 7 }])).toEqual([["/layer", 7]]);
  });

  it("of what a listener speaks renames it, if it was called so", () => {
    expect(values([{ op: "replace", path: "/balancers/1/listeners/0/protocol", value: "http" }])).toContainEqual(["/listeners/0/name", "http"]);
    expect(values([{ op: "replace", path: "/balancers/1/listeners/1/protocol", value: "https" }])).not.toContainEqual(["/listeners/1/name", "https"]);
  });

  it("leaves the plan as it is", () => {
    const made = patchedDocument(document, [{ op: "add", path: "/probes/0", value: { name: "new" } }]);
    expect([made.probes.length, document.probes.length]).toEqual([1, 0]);
  });
});
