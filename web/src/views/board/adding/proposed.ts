/** What something new most likely is, inferred from the plan: only the rest is asked. Pure. */
import type { PlanDocument, Schemas } from "../../../api/client";
import { blankObject, resolve, type Schema } from "../../../form/schema";
import { nextListener } from "../../../form/fitting";
import { adding, type Operation } from "../../../plan/operations";
import { freeName, KINDS, namesFor, objectsOf, type ObjectKind } from "../../../plan/names";
import type { AddKind } from "./kinds";

/** Where it will stand, and what it most likely is. `home`: the balancer to which a listener is added. */
export function proposed(document: PlanDocument, root: Schema, kind: AddKind, home?: string): { path: string; value: Record<string, unknown> } {
  if (kind === "listener") return listenerOf(document, home);
  const blank = blankObject(root, resolve(root, { $ref: `#/$defs/${KINDS[kind].definition}` }), (of) => namesFor(document, of));
  const name = freeName(document, kind);
  return { path: `/${KINDS[kind].list}/${objectsOf(document, kind).length}`, value: { ...blank, name, ...INFERRED[kind](document, name) } };
}

function listenerOf(document: PlanDocument, home: string | undefined): { path: string; value: Record<string, unknown> } {
  const index = Math.max(document.balancers.findIndex((one) => one.name === home), 0);
  const balancer = document.balancers[index];
  return { path: `/balancers/${index}/listeners/${balancer?.listeners.length ?? 0}`, value: balancer ? { ...nextListener(document, balancer) } : {} };
}

type Infer = (document: PlanDocument, name: string) => Record<string, unknown>;

const SERVED = [{ port: 8080, protocol: "http" }];
const MACHINE = { capacity_rps: 100, service_ms: 20, serves: SERVED };

const INFERRED: Record<ObjectKind, Infer> = {
  region: (_, name) => ({ zones: [`${name}-1`, `${name}-2`] }),
  area: (document) => ({ latency_ms: Object.fromEntries(namesFor(document, "region").map((one) => [one, 20])) }),
  network: (document) => ({ cidr: `10.${40 + objectsOf(document, "network").length}.0.0/16` }),
  firewall: () => ({ allow_in: [{ protocol: "tcp", ports: ["80", "443"], from: "any" }] }),
  fleet: (document) => ({ zones: firstZones(document), count: 3, instance: MACHINE }),
  instance: () => MACHINE,
  probe: () => ({ interval_s: 10, timeout_s: 5, unhealthy_after: 3, healthy_after: 2, path: "/" }),
  group: (document) => ({ ...portOf(document, looseTargets(document)), probe: document.probes[0]?.name ?? null, targets: looseTargets(document) }),
  pool: (document) => ({ tiers: [{ groups: Object.fromEntries(looseGroups(document).map((one) => [one, 1])) }] }),
  certificate: (document) => ({ hosts: document.names.length > 0 ? document.names.map((one) => one.name) : ["*.beckwater.example"] }),
  balancer: (document) => ({ ...asItsNeighbours(document, zonesOfMachines(document)), listeners: document.pools.length > 0 ? [firstListener(document)] : [] }),
  name: (document) => ({ ttl_s: 60, answers: looseBalancers(document).map((balancer) => ({ balancer })) }),
  client: (document) => ({ area: document.areas[0]?.name ?? null, rps: 100, calls: [{ url: usualUrl(document) }] }),
  drill: (document) => drillOf(document),
};

function firstZones(document: PlanDocument): Record<string, null> {
  return Object.fromEntries((document.regions[0]?.zones ?? []).map((zone) => [zone, null]));
}

/** The zones in which machines stand; those of the first region while none do. */
function zonesOfMachines(document: PlanDocument): Record<string, null> {
  const used = new Set([...document.instances.map((one) => one.zone), ...document.fleets.flatMap((one) => Object.keys(one.zones))]);
  const region = document.regions.find((one) => one.zones.some((zone) => used.has(zone)));
  const zones = region?.zones.filter((zone) => used.has(zone)) ?? [];
  return zones.length > 0 ? Object.fromEntries(zones.map((zone) => [zone, null])) : firstZones(document);
}

/** In the subnets and behind the firewall of a balancer that stands in all of these zones. */
function asItsNeighbours(document: PlanDocument, zones: Record<string, null>): Partial<Schemas["Balancer"]> {
  const neighbour = document.balancers.find((one) => Object.keys(zones).every((zone) => zone in one.zones));
  if (!neighbour) return { zones };
  return { zones: Object.fromEntries(Object.keys(zones).map((zone) => [zone, neighbour.zones[zone] ?? null])), firewall: neighbour.firewall };
}

function firstListener(document: PlanDocument) {
  const made = nextListener(document, { layer: 7, listeners: [] });
  return { ...made, otherwise: { pool: loosePool(document) } };
}

/** What nothing uses yet, else the last that there is: what something new is most likely for. */
function latest(names: string[], isUsed: (name: string) => boolean): string[] {
  const loose = names.filter((name) => !isUsed(name));
  return loose.length > 0 ? loose : names.slice(-1);
}

function loosePool(document: PlanDocument): string {
  const actions = document.balancers.flatMap((balancer) => balancer.listeners.flatMap((one) => [one.otherwise, ...one.rules.map((rule) => rule.do)]));
  return latest(document.pools.map((one) => one.name), (name) => actions.some((one) => one.pool === name))[0] ?? "";
}

function looseGroups(document: PlanDocument): string[] {
  return latest(document.target_groups.map((one) => one.name), (name) => document.pools.some((pool) => pool.tiers.some((tier) => name in tier.groups)));
}

function looseBalancers(document: PlanDocument): string[] {
  return latest(document.balancers.map((one) => one.name), (name) => document.names.some((one) => one.answers.some((answer) => answer.balancer === name)));
}

/** Fleets and instances that no group has as a target. */
function looseTargets(document: PlanDocument): Partial<Schemas["Target"]>[] {
  const targets = document.target_groups.flatMap((group) => group.targets);
  const fleets = document.fleets.filter((fleet) => !targets.some((target) => target.fleet === fleet.name));
  const instances = document.instances.filter((one) => !targets.some((target) => target.instance === one.name));
  return [...fleets.map((fleet) => ({ fleet: fleet.name })), ...instances.map((one) => ({ instance: one.name }))];
}

/** The port and protocol that the first of these targets serves. */
function portOf(document: PlanDocument, targets: Partial<Schemas["Target"]>[]): Record<string, unknown> {
  const [first] = targets;
  const machine = document.instances.find((one) => one.name === first?.instance) ?? document.fleets.find((one) => one.name === first?.fleet)?.instance;
  const served = machine?.serves[0];
  return served ? { port: served.port, protocol: served.protocol } : { port: 8080 };
}

/** The URL of the last name that leads to a listener, as that listener wants it. */
function usualUrl(document: PlanDocument): string {
  const name = document.names.at(-1);
  const balancer = document.balancers.find((one) => name?.answers.some((answer) => answer.balancer === one.name));
  const listener = balancer?.listeners[0];
  const host = name?.name ?? "www.beckwater.example";
  if (!listener) return `https://${host}/`;
  const usual = (listener.protocol === "https" && listener.port === 443) || (listener.protocol === "http" && listener.port === 80);
  return `${listener.protocol}://${host}${usual ? "" : `:${listener.port}`}/`;
}

function drillOf(document: PlanDocument): Record<string, unknown> {
  const zone = Object.keys(zonesOfMachines(document))[0];
  if (zone === undefined) return { lasts_s: 600 };
  return { title: `lose ${zone}`, lasts_s: 600, steps: [{ at_s: 60, fail: { zone } }, { at_s: 360, restore: { zone } }] };
}

/** What else an addition needs: a new region is some way off from every area. */
export function following(document: PlanDocument, kind: AddKind, name: string): Operation[] {
  if (kind !== "region") return [];
  return document.areas.map((_, index) => adding(`/areas/${index}/latency_ms/${name}`, 30));
}
