/** The sheets: one for every kind of which there can be many. Pure. */
import { numberIn, servicesIn, servicesText } from "../../plan/cells";
import { adding } from "../../plan/operations";
import { choice, column, eitherColumns, list, numbers, orderColumn, ownerColumn, pairs, sheetOf, yesNo, type Column, type Item, type Service, type Sheet } from "./sheet";

const name = (width: number) => column("name", width, { fixed: true });

/** Ports change, the pages of ports that stay are kept. */
function servesColumn(width: number, at = "serves"): Column {
  return column("serves", width, {
    at,
    told: (value) => servicesText(value as Service[] | undefined),
    value: (cell, item) => {
      const before = ((at === "serves" ? item["serves"] : (item["instance"] as Item | undefined)?.["serves"]) ?? []) as Service[];
      const kept = new Map<unknown, Service>(before.map((one) => [one.port, one]));
      return servicesIn(cell).map((one) => ({ ...kept.get(one.port), ...one }));
    },
  });
}

/** Zones, each with its subnet where it has one; a zone alone keeps the subnet that it has. */
function zonesColumn(width: number): Column {
  return pairs("zones", width, null, (text) => text);
}

const WEB = [{ port: 8080, protocol: "http" }];

const machines = sheetOf({
  title: "Machines",
  lists: ["instances"],
  key: "name",
  columns: [
    name(130),
    column("zone", 90, { refers: "zone" }),
    column("subnet", 110, { refers: "subnet" }),
    column("address", 110),
    column("public_address", 120),
    servesColumn(110),
    numbers("capacity_rps", 90),
    numbers("service_ms", 110),
    numbers("queue_s", 70),
    column("fault_domain", 110),
    numbers("maintenance_wave", 140),
    column("firewall", 90, { refers: "firewall" }),
  ],
  fresh: (cells, document) => ({ name: "", zone: document.regions[0]?.zones[0] ?? "", serves: cells["serves"] ? [] : WEB }),
});

const fleets = sheetOf({
  title: "Fleets",
  lists: ["fleets"],
  key: "name",
  columns: [
    name(140),
    zonesColumn(240),
    numbers("count", 70),
    servesColumn(130, "instance/serves"),
    numbers("capacity_rps", 100, { at: "instance/capacity_rps" }),
    numbers("service_ms", 110, { at: "instance/service_ms" }),
    numbers("queue_s", 80, { at: "instance/queue_s" }),
    column("firewall", 90, { at: "instance/firewall", refers: "firewall" }),
  ],
  fresh: (_, document) => ({
    count: 1,
    zones: Object.fromEntries((document.regions[0]?.zones ?? []).map((zone) => [zone, null])),
    instance: { capacity_rps: 100, service_ms: 20, serves: WEB },
  }),
});

const probes = sheetOf({
  title: "Probes",
  lists: ["probes"],
  key: "name",
  columns: [
    name(130),
    choice("protocol", 90, ["http", "https", "tcp"]),
    column("port", 70, { value: (cell) => (cell.trim() === "same" ? "same" : numberIn(cell)) }),
    column("path", 130),
    list("expect", 120),
    numbers("interval_s", 90),
    numbers("timeout_s", 110),
    numbers("unhealthy_after", 120),
    numbers("healthy_after", 130),
  ],
});

const groups = sheetOf({
  title: "Target groups",
  lists: ["target_groups"],
  key: "name",
  columns: [
    name(150),
    choice("protocol", 90, ["http", "https", "tcp", "tls", "udp"]),
    numbers("port", 70),
    column("probe", 110, { refers: "probe" }),
    choice("balance", 150, ["round-robin", "least-connections", "two-choices", "source-hash", "flow-hash"]),
    choice("reach", 110, ["zone", "prefer-zone", "region", "any"]),
    choice("when_none_healthy", 130, ["refuse", "send-anyway"]),
    numbers("drain_s", 90),
    numbers("slow_start_s", 110),
    numbers("try_others", 100),
  ],
  fresh: () => ({ port: 8080 }),
});

const TARGET_KINDS = ["instance", "fleet", "tagged", "address", "host", "balancer"] as const;

const targetsSheet = sheetOf({
  title: "Targets",
  lists: ["target_groups", "targets"],
  columns: [ownerColumn("group", 170, "target_group"), ...eitherColumns("kind", "target", 200, TARGET_KINDS), numbers("port", 90), numbers("weight", 90)],
});

/** A target without a kind is a fleet where there is one of its name, else an instance. */
const targets: Sheet = {
  ...targetsSheet,
  add: (cells, document) => targetsSheet.add({ ...cells, kind: cells["kind"] || (document.fleets.some((one) => one.name === cells["target"]) ? "fleet" : "instance") }, document),
};

const pools = sheetOf({
  title: "Pools",
  lists: ["pools", "tiers"],
  columns: [ownerColumn("pool", 150, "pool"), { ...orderColumn, name: "tier" }, pairs("groups", 330, 1, numberIn), choice("empty_group", 130, ["share-out", "fail"])],
  without: (cells, made) => [adding("/pools/-", { name: cells["pool"] ?? "", tiers: [made] })],
});

const certificates = sheetOf({
  title: "Certificates",
  lists: ["certificates"],
  key: "name",
  columns: [name(150), list("hosts", 330), column("expires", 120)],
});

const balancers = sheetOf({
  title: "Balancers",
  lists: ["balancers"],
  key: "name",
  columns: [
    name(140),
    numbers("layer", 60),
    choice("exposure", 90, ["public", "internal"]),
    zonesColumn(280),
    choice("address_kind", 100, ["shared", "per-zone", "anycast", "floating"]),
    list("addresses", 140),
    column("firewall", 90, { refers: "firewall" }),
    numbers("front_failover_s", 130),
    numbers("idle_timeout_s", 120),
  ],
  fresh: (_, document) => ({ zones: Object.fromEntries((document.regions[0]?.zones ?? []).map((zone) => [zone, null])) }),
});

const listeners = sheetOf({
  title: "Listeners",
  lists: ["balancers", "listeners"],
  columns: [
    ownerColumn("balancer", 150, "balancer"),
    column("name", 120),
    choice("protocol", 90, ["http", "https", "tcp", "tls", "udp"]),
    numbers("port", 80),
    column("certificate", 120, { refers: "certificate" }),
    column("pool", 130, { at: "otherwise/pool", refers: "pool" }),
  ],
});

const rules = sheetOf({
  title: "Rules of listeners",
  lists: ["balancers", "listeners", "rules"],
  columns: [
    ownerColumn("listener", 170),
    orderColumn,
    column("name", 120),
    list("host", 170, { at: "when/host", nullable: true }),
    list("path", 170, { at: "when/path", nullable: true }),
    list("method", 90, { at: "when/method", nullable: true }),
    column("pool", 110, { at: "do/pool", refers: "pool", value: (cell) => cell.trim() }),
  ],
});

const names = sheetOf({
  title: "Names",
  lists: ["names"],
  key: "name",
  columns: [
    name(220),
    numbers("ttl_s", 80),
    choice("choose", 90, ["order", "share", "nearest", "area", "all"]),
    column("probe", 110, { refers: "probe" }),
    list("probed_from", 160),
    numbers("standby_share", 130),
  ],
});

const ANSWER_KINDS = ["balancer", "instance", "address", "host"] as const;

const answers = sheetOf({
  title: "Answers of names",
  lists: ["names", "answers"],
  columns: [ownerColumn("name", 220, "name"), orderColumn, ...eitherColumns("kind", "answer", 200, ANSWER_KINDS), numbers("weight", 80), list("areas", 160)],
});

const clients = sheetOf({
  title: "Clients",
  lists: ["clients"],
  key: "name",
  columns: [
    name(130),
    column("area", 100, { refers: "area" }),
    numbers("rps", 80),
    numbers("sources", 80),
    column("cidr", 140, { value: (cell) => cell.trim() }),
    column("url", 300, { at: "calls/0/url", value: (cell) => cell.trim() }),
    numbers("timeout_s", 80),
    numbers("connect_timeout_s", 90),
    numbers("retries", 80),
  ],
  fresh: () => ({ rps: 0, calls: [{ url: "" }] }),
});

const calls = sheetOf({
  title: "Calls of clients",
  lists: ["clients", "calls"],
  columns: [ownerColumn("client", 130, "client"), column("url", 340, { value: (cell) => cell.trim() }), numbers("share", 80), column("method", 90), numbers("kilobytes", 100)],
});

const subnets = sheetOf({
  title: "Subnets",
  lists: ["networks", "subnets"],
  columns: [ownerColumn("network", 150, "network"), column("name", 140), column("cidr", 140), column("zone", 110, { refers: "zone" }), yesNo("public", 80)],
});

const networks = sheetOf({
  title: "Networks",
  lists: ["networks"],
  key: "name",
  columns: [name(150), column("region", 110, { refers: "region" }), column("cidr", 150), list("peers", 220)],
});

const firewalls = sheetOf({
  title: "Firewall rules",
  lists: ["firewalls", "allow_in"],
  columns: [ownerColumn("firewall", 170, "firewall"), choice("protocol", 90, ["tcp", "udp", "any"]), list("ports", 170), column("from", 220)],
  fresh: () => ({ protocol: "tcp", from: "any" }),
  without: (cells, made) => [adding("/firewalls/-", { name: cells["firewall"] ?? "", allow_in: [made] })],
});

const areas = sheetOf({
  title: "Areas",
  lists: ["areas"],
  key: "name",
  columns: [name(150), pairs("latency_ms", 420, 0, numberIn)],
});

const regions = sheetOf({
  title: "Regions",
  lists: ["regions"],
  key: "name",
  columns: [name(150), list("zones", 420)],
});

const drills = sheetOf({
  title: "Drills",
  lists: ["drills"],
  key: "name",
  columns: [name(180), column("title", 330, { value: (cell) => cell.trim() }), numbers("lasts_s", 100), choice("phases", 100, ["spread", "best", "worst"])],
});

export const SHEETS = {
  regions, areas, networks, subnets, firewalls, fleets, machines, probes, groups, targets, pools, certificates, balancers, listeners, rules, names, answers, clients, calls, drills,
} satisfies Record<string, Sheet>;
