import { describe, expect, it } from "vitest";

import type { PlanDocument } from "../../api/client";
import { servicesIn } from "../../plan/cells";
import { pastedChanges, removingRows, SHEETS } from "./columns";

const document = {
  northgate: 1,
  name: "small",
  regions: [{ name: "fells", zones: ["fells-1"] }],
  instances: [
    { name: "a", zone: "fells-1", capacity_rps: 100, service_ms: 20, queue_s: 10, serves: [{ port: 80, protocol: "http", pages: { "/": 200, "/up": 204 } }] },
    { name: "b", zone: "fells-1", capacity_rps: null, service_ms: 0, queue_s: 10, serves: [] },
  ],
  target_groups: [{ name: "web", port: 80, targets: [{ instance: "a", weight: 1 }, { instance: "b", weight: 2 }] }],
  firewalls: [{ name: "edge", allow_in: [{ protocol: "tcp", ports: ["443"], from: "any" }] }],
} as unknown as PlanDocument;

describe("the machines' sheet", () => {
  const first = SHEETS.machines.rows(document)[0] ?? { path: "", cells: {} };
  const column = (name: string) => SHEETS.machines.columns.find((one) => one.name === name);

  it("shows a row a machine, empty cells for what is not given", () => {
    expect(first.cells).toMatchObject({ name: "a", capacity_rps: "100", serves: "http 80", subnet: "" });
  });

  it.each([
    ["capacity_rps", "250", 250],
    ["capacity_rps", "2,5", 2.5],
    ["capacity_rps", "", null],
    ["capacity_rps", "much", "much"],
    ["zone", " fells-1 ", "fells-1"],
    ["subnet", "", null],
  ])("writes %s %j as %j", (name, text, value) => {
    expect(column(name)?.write(text, first)).toEqual([{ op: "replace", path: `/instances/0/${name}`, value }]);
  });

  it("keeps the pages of ports that stay", () => {
    const [edit] = column("serves")?.write("http 80, tcp 9000", first) ?? [];
    expect(edit?.value).toEqual([
      { port: 80, protocol: "http", pages: { "/": 200, "/up": 204 } },
      { port: 9000, protocol: "tcp" },
    ]);
  });

  it("tells what pasted rows would change", () => {
    const changes = pastedChanges(SHEETS.machines, document, [
      { name: "a", capacity_rps: "100" },
      { name: "b", capacity_rps: "50" },
      { name: "c", zone: "fells-1" },
    ]);
    expect(changes.map((one) => [one.kind, one.words])).toEqual([
      ["same", ""],
      ["changed", "capacity_rps 50, was nothing"],
      ["added", "c · fells-1"],
    ]);
    expect(changes[2]?.operations[0]).toMatchObject({ op: "add", path: "/instances/-" });
  });
});

it("reads services with and without a protocol", () => {
  expect(servicesIn("8080, tcp 9000; https:443")).toEqual([
    { port: 8080, protocol: "http" },
    { port: 9000, protocol: "tcp" },
    { port: 443, protocol: "https" },
  ]);
});

it("takes rows out from the back, so that none moves another", () => {
  const rows = [2, 10, 1].map((number) => ({ path: `/instances/${number}`, cells: {} }));
  expect(removingRows(rows).map((one) => one.path)).toEqual(["/instances/10", "/instances/2", "/instances/1"]);
});

it("adds a firewall rule to its firewall, or with a new one", () => {
  expect(SHEETS.firewalls.add({ firewall: "edge", ports: "80 81" }, document)[0]?.path).toBe("/firewalls/0/allow_in/-");
  expect(SHEETS.firewalls.add({ firewall: "app", ports: "80" }, document)[0]).toMatchObject({ path: "/firewalls/-", value: { name: "app" } });
});
