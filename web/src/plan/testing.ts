/** Plans for tests: as the server gives them, with every list that they do not speak of empty. */

import type { PlanDocument } from "../api/client";

/** A document with these parts; objects may lack fields that a test does not look at. */
export function documentOf(parts: object): PlanDocument {
  const lists = ["regions", "areas", "networks", "firewalls", "instances", "fleets", "probes", "target_groups", "pools", "certificates", "balancers", "names", "clients", "drills"];
  return { ...Object.fromEntries(lists.map((list) => [list, []])), ...parts } as unknown as PlanDocument;
}
