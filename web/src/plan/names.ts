/** Names that references of each kind may take, and where each kind of object stands in the plan. Pure. */

import type { PlanDocument } from "../api/client";

/** Kinds of object, where their list stands, their definition in the schema, and what they are called. */
export const KINDS = {
  region: { list: "regions", definition: "Region", words: "region" },
  area: { list: "areas", definition: "Area", words: "area" },
  network: { list: "networks", definition: "Network", words: "network" },
  firewall: { list: "firewalls", definition: "Firewall", words: "firewall" },
  instance: { list: "instances", definition: "Instance", words: "instance" },
  fleet: { list: "fleets", definition: "Fleet", words: "fleet" },
  probe: { list: "probes", definition: "Probe", words: "probe" },
  group: { list: "target_groups", definition: "TargetGroup", words: "target group" },
  pool: { list: "pools", definition: "Pool", words: "pool" },
  certificate: { list: "certificates", definition: "Certificate", words: "certificate" },
  balancer: { list: "balancers", definition: "Balancer", words: "balancer" },
  name: { list: "names", definition: "DnsEntry", words: "name" },
  client: { list: "clients", definition: "ClientGroup", words: "client group" },
  drill: { list: "drills", definition: "Drill", words: "drill" },
} as const;

export type ObjectKind = keyof typeof KINDS;

export const OBJECT_KINDS = Object.keys(KINDS) as ObjectKind[];

/** What the server calls a kind, in removal and renaming. */
export function serverKind(kind: ObjectKind): string {
  return kind === "group" ? "target_group" : kind;
}

export function objectsOf(document: PlanDocument, kind: ObjectKind): { name: string }[] {
  return (document[KINDS[kind].list]);
}

/** Where an object stands, as a JSON Pointer; undefined when the plan has none of that name. */
export function placeOf(document: PlanDocument, kind: ObjectKind, name: string): string | undefined {
  const index = objectsOf(document, kind).findIndex((one) => one.name === name);
  return index < 0 ? undefined : `/${KINDS[kind].list}/${index}`;
}

export function valueAt(document: unknown, pointer: string): unknown {
  return pointer
    .split("/")
    .slice(1)
    .map((part) => part.replaceAll("~1", "/").replaceAll("~0", "~"))
    .reduce<unknown>((value, part) => (value as Record<string, unknown> | undefined)?.[part], document);
}

/** The names that a reference of a kind may take. */
export function namesFor(document: PlanDocument, kind: string): string[] {
  const zones = document.regions.flatMap((region) => region.zones);
  const regions = document.regions.map((region) => region.name);
  const machines = machineNames(document);
  const special: Record<string, () => string[]> = {
    zone: () => zones,
    subnet: () => document.networks.flatMap((network) => network.subnets.map((subnet) => subnet.name)),
    "zone or region": () => [...zones, ...regions],
    "any instance": () => machines,
    fault_domain: () => faultDomains(document),
    "address outside": () => outside(document).flatMap((end) => end.address ?? []),
    "host outside": () => outside(document).flatMap((end) => end.host ?? []),
    target_group: () => objectsOf(document, "group").map((one) => one.name),
  };
  const known = special[kind];
  if (known) return known();
  return kind in KINDS ? objectsOf(document, kind as ObjectKind).map((one) => one.name) : [];
}

/** Targets and answers that are addresses or hosts; those of the plan's own parts the server tells apart. */
function outside(document: PlanDocument): { address?: string | null; host?: string | null }[] {
  const names = document.names.map((one) => one.name.toLowerCase());
  const ends = [...document.target_groups.flatMap((group) => group.targets), ...document.names.flatMap((name) => name.answers)];
  return ends.filter((end) => end.host === null || end.host === undefined || !names.includes(end.host.toLowerCase()));
}

function machineNames(document: PlanDocument): string[] {
  const fleets = document.fleets.flatMap((fleet) => Array.from({ length: fleet.count }, (_, index) => `${fleet.name}-${index + 1}`));
  return [...document.instances.map((one) => one.name), ...fleets];
}

/** The first maintenance wave in which something stands. */
export function firstWave(document: PlanDocument): number {
  const waves = [...document.instances, ...document.fleets.map((fleet) => fleet.instance)].map((one) => one.maintenance_wave);
  return waves.find((one) => typeof one === "number") ?? 1;
}

function faultDomains(document: PlanDocument): string[] {
  const given = [...(document.instances), ...document.fleets.map((fleet) => fleet.instance)];
  return [...new Set(given.map((one) => one.fault_domain).filter((one): one is string => Boolean(one)))];
}

/** A name that is not taken yet: `probe`, `probe-2`, … */
export function freeName(document: PlanDocument, kind: ObjectKind): string {
  const base = kind === "name" ? "new.beckwater.example" : KINDS[kind].words.replaceAll(" ", "-");
  const taken = new Set(objectsOf(document, kind).map((one) => one.name));
  const spell = (number: number) => (number === 1 ? base : kind === "name" ? `new${number}.beckwater.example` : `${base}-${number}`);
  let number = 1;
  while (taken.has(spell(number))) number++;
  return spell(number);
}

/** Whether a word of a choice can work where it would stand: a balancer of layer 4 sees no cookies. */
export function canStandAt(document: PlanDocument, path: string, word: unknown): boolean {
  const group = /^\/target_groups\/(\d+)\/affinity\/by$/.exec(path);
  if (!group || word !== "cookie") return true;
  const layers = layersAbove(document, document.target_groups[Number(group[1])]?.name ?? "");
  return layers.length === 0 || layers.includes(7);
}

/** The layers of the balancers whose listeners lead to a group. */
function layersAbove(document: PlanDocument, group: string): number[] {
  const pools = document.pools.filter((pool) => pool.tiers.some((tier) => group in tier.groups)).map((pool) => pool.name);
  const leads = (listener: PlanDocument["balancers"][number]["listeners"][number]) => [...listener.rules.map((rule) => rule.do), listener.otherwise].some((action) => action.pool && pools.includes(action.pool));
  return document.balancers.filter((balancer) => balancer.listeners.some(leads)).map((balancer) => balancer.layer);
}
