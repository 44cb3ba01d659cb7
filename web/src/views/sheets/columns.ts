/** The sheets: what stands in their rows, and how a cell becomes an edit. Pure. */

import type { PlanDocument, Schemas } from "../../api/client";
import { numberIn, servicesIn, servicesText } from "../../plan/cells";
import { adding, removing, setting, type Operation } from "../../plan/edit";

export interface Row {
  /** Where the row's object stands. */
  path: string;
  cells: Record<string, string>;
  /** What the machine serves, with its pages, which no cell shows. */
  serves?: Schemas["Service"][] | undefined;
}

export interface Column {
  name: string;
  width: number;
  number?: boolean;
  fixed?: boolean;
  /** The references that the cell may hold. */
  refers?: string;
  /** The edit that writes a text into the cell. */
  write: (text: string, row: Row) => Operation[];
}

export interface Sheet {
  title: string;
  rows: (document: PlanDocument) => Row[];
  columns: Column[];
  /** By which column pasted rows are matched to those that are there; none: pasted rows are added. */
  key: string | undefined;
  /** The edit that adds a row. */
  add: (cells: Record<string, string>, document: PlanDocument) => Operation[];
}

const text = (value: unknown) => (value === null || value === undefined ? "" : String(value));

const words = (cell: string) => cell.split(/[\s,;]+/).filter(Boolean);

function plainColumn(name: string, width: number, more: Partial<Column> = {}): Column {
  return { name, width, write: (cell, row) => [setting(`${row.path}/${name}`, cell.trim() === "" ? null : cell.trim())], ...more };
}

function numberColumn(name: string, width: number, field = name): Column {
  return { name, width, number: true, write: (cell, row) => [setting(`${row.path}/${field}`, numberIn(cell))] };
}

function listColumn(name: string, width: number, path: string, nullable: boolean): Column {
  return { name, width, write: (cell, row) => [setting(`${row.path}/${path}`, words(cell).length === 0 && nullable ? null : words(cell))] };
}

const machines: Sheet = {
  title: "Machines",
  key: "name",
  rows: (document) =>
    document.instances.map((one, index) => ({
      path: `/instances/${index}`,
      serves: one.serves,
      cells: {
        name: one.name, zone: one.zone, subnet: text(one.subnet), address: text(one.address), serves: servicesText(one.serves),
        capacity_rps: text(one.capacity_rps), service_ms: text(one.service_ms), queue_s: text(one.queue_s),
        fault_domain: text(one.fault_domain), maintenance_wave: text(one.maintenance_wave), firewall: text(one.firewall),
      },
    })),
  columns: [
    plainColumn("name", 130, { fixed: true }),
    plainColumn("zone", 90, { refers: "zone" }),
    plainColumn("subnet", 110, { refers: "subnet" }),
    plainColumn("address", 110),
    { name: "serves", width: 110, write: (cell, row) => servicesWritten(cell, row) },
    numberColumn("capacity_rps", 90),
    numberColumn("service_ms", 110),
    numberColumn("queue_s", 70),
    plainColumn("fault_domain", 110),
    numberColumn("maintenance_wave", 140),
    plainColumn("firewall", 90, { refers: "firewall" }),
  ],
  add: (cells, document) => [adding("/instances/-", instanceOf(cells, document))],
};

/** Ports change, the pages of ports that stay are kept. */
function servicesWritten(cell: string, row: Row, field = "serves"): Operation[] {
  const before = (row.serves ?? []).map((one) => [one.port, one] as const);
  const kept = new Map<unknown, Schemas["Service"]>(before);
  const after = servicesIn(cell).map((one) => ({ ...kept.get(one.port), ...one }));
  return [setting(`${row.path}/${field}`, after)];
}

function instanceOf(cells: Record<string, string>, document: PlanDocument): Record<string, unknown> {
  const made: Record<string, unknown> = { name: cells["name"] ?? "", zone: cells["zone"] ?? document.regions[0]?.zones[0] ?? "" };
  for (const name of ["subnet", "address", "fault_domain", "firewall"]) if (cells[name]) made[name] = cells[name];
  for (const name of ["capacity_rps", "service_ms", "queue_s", "maintenance_wave"]) if (cells[name]) made[name] = numberIn(cells[name]);
  return { ...made, serves: servicesIn(cells["serves"] ?? "http 8080") };
}

const fleets: Sheet = {
  title: "Fleets",
  key: "name",
  rows: (document) =>
    document.fleets.map((one, index) => ({
      path: `/fleets/${index}`,
      serves: one.instance.serves,
      cells: {
        name: one.name, zones: Object.keys(one.zones).join(", "), count: text(one.count), serves: servicesText(one.instance.serves),
        capacity_rps: text(one.instance.capacity_rps), service_ms: text(one.instance.service_ms), queue_s: text(one.instance.queue_s),
      },
    })),
  columns: [
    plainColumn("name", 140, { fixed: true }),
    { name: "zones", width: 240, write: (cell, row) => [setting(`${row.path}/zones`, Object.fromEntries(words(cell).map((zone) => [zone, null])))] },
    numberColumn("count", 70),
    { name: "serves", width: 130, write: (cell, row) => servicesWritten(cell, row, "instance/serves") },
    numberColumn("capacity_rps", 100, "instance/capacity_rps"),
    numberColumn("service_ms", 90, "instance/service_ms"),
    numberColumn("queue_s", 80, "instance/queue_s"),
  ],
  add: (cells) => [
    adding("/fleets/-", {
      name: cells["name"] ?? "",
      zones: Object.fromEntries(words(cells["zones"] ?? "").map((zone) => [zone, null])),
      count: numberIn(cells["count"] ?? "1"),
      instance: { capacity_rps: numberIn(cells["capacity_rps"] ?? "100"), service_ms: numberIn(cells["service_ms"] ?? "20"), serves: servicesIn(cells["serves"] ?? "http 8080") },
    }),
  ],
};

const TARGET_KINDS = ["instance", "fleet", "address", "host", "balancer"] as const;

const targets: Sheet = {
  title: "Targets",
  key: undefined,
  rows: (document) =>
    document.target_groups.flatMap((group, index) =>
      group.targets.map((target, place) => {
        const kind = TARGET_KINDS.find((one) => target[one]) ?? "instance";
        return {
          path: `/target_groups/${index}/targets/${place}`,
          cells: { group: group.name, kind, target: text(target[kind]), port: text(target.port), weight: text(target.weight) },
        };
      }),
    ),
  columns: [
    { name: "group", width: 170, fixed: true, write: () => [] },
    { name: "kind", width: 90, fixed: true, write: () => [] },
    { name: "target", width: 200, write: (cell, row) => [setting(`${row.path}/${row.cells["kind"] ?? "instance"}`, cell.trim())] },
    numberColumn("port", 90),
    numberColumn("weight", 90),
  ],
  add: (cells, document) => {
    const index = document.target_groups.findIndex((one) => one.name === cells["group"]);
    const kind = cells["kind"] || (document.fleets.some((one) => one.name === cells["target"]) ? "fleet" : "instance");
    const made: Record<string, unknown> = { [kind]: cells["target"] ?? "" };
    if (cells["port"]) made["port"] = numberIn(cells["port"]);
    if (cells["weight"]) made["weight"] = numberIn(cells["weight"]);
    return [adding(`/target_groups/${index < 0 ? (cells["group"] ?? "") : index}/targets/-`, made)];
  },
};

const firewalls: Sheet = {
  title: "Firewall rules",
  key: undefined,
  rows: (document) =>
    document.firewalls.flatMap((firewall, index) =>
      firewall.allow_in.map((rule, place) => ({
        path: `/firewalls/${index}/allow_in/${place}`,
        cells: { firewall: firewall.name, protocol: text(rule.protocol), ports: rule.ports.join(", "), from: rule.from },
      })),
    ),
  columns: [
    { name: "firewall", width: 170, fixed: true, write: () => [] },
    plainColumn("protocol", 90),
    listColumn("ports", 170, "ports", false),
    plainColumn("from", 220),
  ],
  add: (cells, document) => {
    const index = document.firewalls.findIndex((one) => one.name === cells["firewall"]);
    const rule = { protocol: cells["protocol"] || "tcp", ports: words(cells["ports"] ?? ""), from: cells["from"] || "any" };
    if (index < 0) return [adding("/firewalls/-", { name: cells["firewall"] ?? "", allow_in: [rule] })];
    return [adding(`/firewalls/${index}/allow_in/-`, rule)];
  },
};

const rules: Sheet = {
  title: "Rules of listeners",
  key: undefined,
  rows: (document) =>
    document.balancers.flatMap((balancer, index) =>
      balancer.listeners.flatMap((listener, place) =>
        listener.rules.map((rule, number) => ({
          path: `/balancers/${index}/listeners/${place}/rules/${number}`,
          cells: {
            listener: `${balancer.name}/${listener.name}`, order: String(number + 1), name: rule.name,
            host: (rule.when.host ?? []).join(", "), path: (rule.when.path ?? []).join(", "),
            method: (rule.when.method ?? []).join(", "), pool: text(rule.do.pool),
          },
        })),
      ),
    ),
  columns: [
    { name: "listener", width: 170, fixed: true, write: () => [] },
    { name: "order", width: 60, number: true, write: (cell, row) => [{ op: "move", from: row.path, path: row.path.replace(/\d+$/, String(Math.max(Number(cell) - 1, 0))) }] },
    plainColumn("name", 120),
    listColumn("host", 170, "when/host", true),
    listColumn("path", 170, "when/path", true),
    listColumn("method", 90, "when/method", true),
    { name: "pool", width: 110, refers: "pool", write: (cell, row) => [setting(`${row.path}/do/pool`, cell.trim())] },
  ],
  add: (cells, document) => {
    const [owner = "", name = ""] = (cells["listener"] ?? "").split("/");
    const index = document.balancers.findIndex((one) => one.name === owner);
    const place = document.balancers[index]?.listeners.findIndex((one) => one.name === name) ?? -1;
    const when: Record<string, string[]> = {};
    for (const field of ["host", "path", "method"]) if (cells[field]) when[field] = words(cells[field]);
    return [adding(`/balancers/${index}/listeners/${place}/rules/-`, { name: cells["name"] ?? "", when, do: { pool: cells["pool"] ?? "" } })];
  },
};

const clients: Sheet = {
  title: "Clients",
  key: "name",
  rows: (document) =>
    document.clients.map((one, index) => ({
      path: `/clients/${index}`,
      cells: {
        name: one.name, area: text(one.area), rps: text(one.rps), sources: text(one.sources), cidr: text(one.cidr),
        url: text(one.calls[0]?.url), timeout_s: text(one.timeout_s), connect_timeout_s: text(one.connect_timeout_s),
      },
    })),
  columns: [
    plainColumn("name", 130, { fixed: true }),
    plainColumn("area", 100, { refers: "area" }),
    numberColumn("rps", 80),
    numberColumn("sources", 80),
    plainColumn("cidr", 140),
    { name: "url", width: 300, write: (cell, row) => [setting(`${row.path}/calls/0/url`, cell.trim())] },
    numberColumn("timeout_s", 80),
    numberColumn("connect_timeout_s", 90),
  ],
  add: (cells) => {
    const made: Record<string, unknown> = { name: cells["name"] ?? "", rps: numberIn(cells["rps"] ?? "0"), calls: [{ url: cells["url"] ?? "" }] };
    for (const field of ["area", "cidr"]) if (cells[field]) made[field] = cells[field];
    for (const field of ["sources", "timeout_s", "connect_timeout_s"]) if (cells[field]) made[field] = numberIn(cells[field]);
    return [adding("/clients/-", made)];
  },
};

export const SHEETS = { machines, fleets, targets, firewalls, rules, clients } satisfies Record<string, Sheet>;

export interface PastedChange {
  kind: "added" | "changed" | "same";
  name: string;
  words: string;
  operations: Operation[];
}

/** What pasted rows would change: by the key column those that are there, the rest is added. */
export function pastedChanges(sheet: Sheet, document: PlanDocument, pasted: Record<string, string>[]): PastedChange[] {
  const present = sheet.rows(document);
  return pasted.map((cells) => {
    const key = sheet.key;
    const row = key ? present.find((one) => one.cells[key] === cells[key]) : undefined;
    const name = cells[key ?? sheet.columns[0]?.name ?? ""] ?? "";
    if (!row) return { kind: "added", name, words: Object.values(cells).filter(Boolean).join(" · "), operations: sheet.add(cells, document) };
    const changed = sheet.columns.filter((column) => !column.fixed && cells[column.name] !== undefined && cells[column.name] !== row.cells[column.name]);
    return {
      kind: changed.length ? "changed" : "same",
      name,
      words: changed.map((column) => `${column.name} ${cells[column.name] || "nothing"}, was ${row.cells[column.name] || "nothing"}`).join("; "),
      operations: changed.flatMap((column) => column.write(cells[column.name] ?? "", row)),
    };
  });
}

/** Takes rows out, from the back, so that none moves another. */
export function removingRows(rows: Row[]): Operation[] {
  const number = (path: string) => path.split("/").map((part) => (/^\d+$/.test(part) ? part.padStart(8, "0") : part)).join("/");
  return [...rows].sort((a, b) => number(b.path).localeCompare(number(a.path))).map((row) => removing(row.path));
}
