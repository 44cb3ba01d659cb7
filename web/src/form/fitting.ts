/** What is new, made to fit what it is put into: the rest of the plan says what it most likely is. Pure. */

import type { PlanDocument, Schemas } from "../api/client";
import { valueAt } from "../plan/names";

type Fit = (document: PlanDocument, parent: string, made: object, at: number | undefined) => object;

/** Where something new is put, and how it is made to fit there. */
const FITS: [RegExp, Fit][] = [
  [/^(\/fleets\/\d+)\/scale$/, scaleOf],
  [/^(\/networks\/\d+)\/subnets\/-$/, subnetOf],
  [/^(\/pools\/\d+)\/tiers\/-$/, tierOf],
  [/^(\/drills\/\d+)\/steps\/-$/, stepOf],
];

/** A new value for a place, as it most likely is there; `at` is the second under the cursor. */
export function fitting(document: PlanDocument, path: string, made: unknown, at?: number): unknown {
  for (const [place, fit] of FITS) {
    const parent = place.exec(path)?.[1];
    if (parent !== undefined && typeof made === "object" && made !== null) return fit(document, parent, made, at);
  }
  return made;
}

/** As many as there are today at least, twice as many at most. */
function scaleOf(document: PlanDocument, parent: string, made: object): object {
  const { count } = valueAt(document, parent) as { count: number };
  return { ...made, min: Math.max(count, 1), max: Math.max(count, 1) * 2, target_utilisation: 0.6 };
}

/** The first range of 256 addresses of the network that no subnet has; IPv4 alone is worked out. */
function subnetOf(document: PlanDocument, parent: string, made: object): object {
  const { cidr, subnets } = valueAt(document, parent) as { cidr: string; subnets: { cidr: string }[] };
  const whole = rangeOf(cidr);
  const taken = subnets.map((one) => rangeOf(one.cidr));
  for (let first = whole?.first ?? 1; whole && first + 255 <= whole.last; first += 256) {
    if (!taken.some((one) => one && first <= one.last && one.first <= first + 255)) return { ...made, cidr: `${dotted(first)}/24` };
  }
  return made;
}

/** An address kept for documentation (RFC 5737) that nothing in the plan has. */
export function freeAddress(document: object): string {
  const text = JSON.stringify(document);
  const free = Array.from({ length: 254 }, (_, number) => `198.51.100.${number + 1}`);
  return free.find((address) => !text.includes(`"${address}"`)) ?? "198.51.100.254";
}

function rangeOf(cidr: string): { first: number; last: number } | undefined {
  const [, a, b, c, d, bits] = /^(\d+)\.(\d+)\.(\d+)\.(\d+)\/(\d+)$/.exec(cidr) ?? [];
  if (bits === undefined) return undefined;
  const first = ((Number(a) * 256 + Number(b)) * 256 + Number(c)) * 256 + Number(d);
  return { first, last: first + 2 ** (32 - Number(bits)) - 1 };
}

function dotted(address: number): string {
  return [24, 16, 8, 0].map((bits) => Math.floor(address / 2 ** bits) % 256).join(".");
}

/** A step at the cursor, else after those that there are: what is lost by then comes back, or else a zone in which something stands is lost. */
function stepOf(document: PlanDocument, parent: string, made: object, at: number | undefined): object {
  const { steps, lasts_s } = valueAt(document, parent) as Pick<Schemas["Drill"], "steps" | "lasts_s">;
  const last = [...steps].sort((a, b) => a.at_s - b.at_s).at(-1);
  const at_s = Math.round(at ?? Math.min((last?.at_s ?? 0) + 60, lasts_s));
  const still = steps.filter((one) => one.fail && one.at_s <= at_s && !steps.some((other) => other.at_s > one.at_s && other.at_s <= at_s && JSON.stringify(other.restore) === JSON.stringify(one.fail))).at(-1);
  if (still) return { at_s, restore: still.fail };
  return { ...made, at_s };
}

/** A group that the pool does not have yet. */
function tierOf(document: PlanDocument, parent: string, made: object): object {
  const { tiers } = valueAt(document, parent) as { tiers: { groups: object }[] };
  const other = document.target_groups.find((group) => !tiers.some((tier) => group.name in tier.groups));
  return other ? { ...made, groups: { [other.name]: 1 } } : made;
}

/** A listener that a balancer may have besides those that it has: of its layer, on a usual port that is free. */
export function nextListener(document: Pick<PlanDocument, "certificates" | "pools">, balancer: Pick<Schemas["Balancer"], "layer" | "listeners">): { name: string; protocol: string; port: number } {
  const certificate = document.certificates[0]?.name;
  const usual: [string, number][] = balancer.layer === 4 ? [["tcp", 80], ["tcp", 443]] : [...(certificate ? ([["https", 443]] as [string, number][]) : []), ["http", 80]];
  const protocol = balancer.layer === 4 ? "tcp" : "http";
  const more = Array.from({ length: balancer.listeners.length + 1 }, (_, index): [string, number] => [protocol, 8080 + index]);
  const [spoken, port] = [...usual, ...more].find(([, free]) => !balancer.listeners.some((one) => one.port === free)) ?? [protocol, 8080];
  const name = balancer.listeners.some((one) => one.name === spoken) ? `${spoken}-${port}` : spoken;
  return { name, protocol: spoken, port, ...(spoken === "https" ? { certificate } : {}), otherwise: { pool: document.pools[0]?.name } } as { name: string; protocol: string; port: number };
}
