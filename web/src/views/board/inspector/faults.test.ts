import { describe, expect, it } from "vitest";
import { lossWords, parseFault, partOf } from "../../../plan/selection";
import { documentOf } from "../../../plan/testing";
import { otherFaults } from "./faults";

const document = documentOf({
  regions: [{ name: "fells", zones: ["fells-1", "fells-2"] }],
  probes: [{ name: "ready", protocol: "http", path: "/up/ready" }, { name: "port", protocol: "tcp", path: "/" }],
  target_groups: [{ name: "web", probe: "ready" }, { name: "raw", probe: "port" }],
});

describe("ways to break", () => {
  it("a machine: its process, its speed, the page that its probe asks", () => {
    const parts = otherFaults(document, { kind: "berth", name: "web/maps-1" }).map(({ fault }) => partOf(fault));
    expect(parts).toEqual([{ process: "maps-1" }, { slow: "maps-1", factor: 10 }, { page: "/up/ready", instance: "maps-1", status: 503 }]);
    expect(otherFaults(document, { kind: "berth", name: "raw/maps-1" })).toHaveLength(2);
  });

  it("a zone: its links", () => {
    expect(otherFaults(document, { kind: "zone", name: "fells-1" }).map(({ fault }) => partOf(fault))).toEqual([{ link: ["fells-1", "fells-2"] }]);
  });

  it("nothing of what stands outside, or is no machine", () => {
    expect(otherFaults(document, { kind: "berth", name: "web/partner.beckwater.example" })).toEqual([]);
    expect(otherFaults(document, { kind: "zone", name: "outside" })).toEqual([]);
    expect(otherFaults(document, { kind: "pool", name: "main" })).toEqual([]);
  });

  it.each([
    ["crash:maps-1", "the process of maps-1 crashed"],
    ["slow:maps-1", "maps-1 were 10 times slower"],
    ["page:maps-1/up/ready", "page /up/ready of maps-1 answered 503"],
    ["link:fells-1/fells-2", "the link from fells-1 to fells-2 were cut"],
    ["zone:fells-1,berth:web/maps-1", "fells-1 and maps-1 were lost"],
    ["crash:maps-1,front:main/fells-1", "the fells-1 front of main were lost and the process of maps-1 crashed"],
  ])("stand in the address bar as %s", (text, words) => {
    const faults = text.split(",").map(parseFault).filter((one) => one !== undefined);
    expect(lossWords(faults)).toBe(words);
  });

  it("are not anything else", () => {
    expect(parseFault("crash:")).toBeUndefined();
    expect(parseFault("nonsense:maps-1")).toBeUndefined();
    expect(parseFault(undefined)).toBeUndefined();
  });
});
