import { describe, expect, it } from "vitest";

import { servicesIn } from "../../plan/cells";
import { pastedChanges, removingRows, type Row, type Sheet } from "./sheet";
import { SHEETS } from "./sheets";
import { SHEET_TITLES } from "../../plan/sheet-names";
import { documentOf } from "../../plan/testing";

const document = documentOf({
  regions: [{ name: "fells", zones: ["fells-1"] }],
  instances: [
    { name: "a", zone: "fells-1", capacity_rps: 100, service_ms: 20, queue_s: 10, serves: [{ port: 80, protocol: "http", pages: { "/": 200, "/up": 204 } }] },
    { name: "b", zone: "fells-1", capacity_rps: null, service_ms: 0, queue_s: 10, serves: [] },
  ],
  target_groups: [{ name: "web", port: 80, targets: [{ instance: "a", weight: 1 }, { instance: "b", weight: 2 }] }],
  firewalls: [{ name: "edge", allow_in: [{ protocol: "tcp", ports: ["443"], from: "any" }] }],
  pools: [{ name: "main", tiers: [{ groups: { web: 95, spare: 5 }, empty_group: "share-out" }] }],
  balancers: [{ name: "front", zones: { "fells-1": "edge", "fells-2": null }, listeners: [{ name: "https", protocol: "https", port: 443, rules: [{ name: "maps", when: { path: ["/maps/*"] }, do: { pool: "main" } }], otherwise: { pool: "main" } }] }],
  names: [{ name: "www.beckwater.example", ttl_s: 60, choose: "order", answers: [{ balancer: "front", weight: 1, areas: [] }] }],
});

describe("the machines' sheet", () => {
  const first = SHEETS.machines.rows(document)[0] ?? { path: "", cells: {}, item: {} };
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
  const rows = [2, 10, 1].map((number) => ({ path: `/instances/${number}` }));
  expect(removingRows(rows).map((one) => one.path)).toEqual(["/instances/10", "/instances/2", "/instances/1"]);
});

it("adds a firewall rule to its firewall, or with a new one", () => {
  expect(SHEETS.firewalls.add({ firewall: "edge", ports: "80 81" }, document)[0]?.path).toBe("/firewalls/0/allow_in/-");
  expect(SHEETS.firewalls.add({ firewall: "app", ports: "80" }, document)[0]).toMatchObject({ path: "/firewalls/-", value: { name: "app" } });
});

describe("sheets of every kind", () => {
  const cellOf = (sheet: Sheet, name: string) => sheet.rows(document)[0]?.cells[name];
  const written = (sheet: Sheet, name: string, text: string) => sheet.columns.find((one) => one.name === name)?.write(text, sheet.rows(document)[0] as Row);

  it("are those that are offered", () => {
    expect(Object.entries(SHEETS).map(([name, { title }]) => [name, title])).toEqual(Object.entries(SHEET_TITLES));
  });

  it.each([
    [SHEETS.pools, "groups", "web: 95, spare: 5", "web: 90; other", [{ op: "replace", path: "/pools/0/tiers/0/groups", value: { web: 90, other: 1 } }]],
    [SHEETS.balancers, "zones", "fells-1: edge, fells-2", "fells-1: edge", [{ op: "replace", path: "/balancers/0/zones", value: { "fells-1": "edge" } }]],
    [SHEETS.listeners, "pool", "main", "spare", [{ op: "replace", path: "/balancers/0/listeners/0/otherwise/pool", value: "spare" }]],
    [SHEETS.rules, "path", "/maps/*", "", [{ op: "replace", path: "/balancers/0/listeners/0/rules/0/when/path", value: null }]],
    [SHEETS.rules, "order", "1", "3", [{ op: "move", from: "/balancers/0/listeners/0/rules/0", path: "/balancers/0/listeners/0/rules/2" }]],
    [SHEETS.answers, "answer", "front", "other", [{ op: "replace", path: "/names/0/answers/0/balancer", value: "other" }]],
    [SHEETS.targets, "kind", "instance", "host", [{ op: "replace", path: "/target_groups/0/targets/0/instance", value: null }, { op: "replace", path: "/target_groups/0/targets/0/host", value: "a" }]],
  ])("read and write %#", (sheet, name, shown, text, operations) => {
    expect(cellOf(sheet, name)).toBe(shown);
    expect(written(sheet, name, text)).toEqual(operations);
  });

  it.each([
    [SHEETS.rules, { listener: "front/https", name: "new", path: "/x/*", pool: "main" }, "/balancers/0/listeners/0/rules/-", { name: "new", when: { path: ["/x/*"] }, do: { pool: "main" } }],
    [SHEETS.targets, { group: "web", target: "b", weight: "2" }, "/target_groups/0/targets/-", { instance: "b", weight: 2 }],
    [SHEETS.targets, { group: "web", kind: "host", target: "x.beckwater.example" }, "/target_groups/0/targets/-", { host: "x.beckwater.example" }],
    [SHEETS.pools, { pool: "new", groups: "web" }, "/pools/-", { name: "new", tiers: [{ groups: { web: 1 } }] }],
    [SHEETS.names, { name: "n.beckwater.example", ttl_s: "30" }, "/names/-", { name: "n.beckwater.example", ttl_s: 30 }],
    [SHEETS.subnets, { network: "nowhere", name: "app" }, "/networks/nowhere/subnets/-", { name: "app" }],
  ])("add a row %#", (sheet, cells, path, value) => {
    expect(sheet.add(cells, document)).toEqual([{ op: "add", path, value }]);
  });
});
