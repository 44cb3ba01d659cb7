/** The kinds of the plan's index, as people call them, and where what is of a kind is shown. Pure. */
import type { Schemas } from "../api/client";
import type { Selection } from "./selection";

type IndexEntry = Schemas["IndexEntry"];

/** In the order of the work: from places to drills. */
export const INDEX_KINDS: [string, string][] = [
  ["region", "Regions"],
  ["zone", "Zones"],
  ["area", "Areas"],
  ["network", "Networks"],
  ["subnet", "Subnets"],
  ["firewall", "Firewalls"],
  ["fleet", "Fleets"],
  ["instance", "Instances"],
  ["probe", "Probes"],
  ["target_group", "Target groups"],
  ["pool", "Pools"],
  ["certificate", "Certificates"],
  ["balancer", "Balancers"],
  ["listener", "Listeners"],
  ["name", "Names"],
  ["client", "Client groups"],
  ["drill", "Drills"],
];

/** What is selected to see an object; a subnet is seen in its network. */
export function selectionOf(entry: Pick<IndexEntry, "kind" | "name">, networkOf: (subnet: string) => string | undefined): Selection {
  if (entry.kind === "subnet") return { kind: "network", name: networkOf(entry.name) ?? "" };
  if (entry.kind === "target_group") return { kind: "group", name: entry.name };
  return { kind: entry.kind as Selection["kind"], name: entry.name };
}

/** What can be added, in the order in which one plans, and how it is called. */
export const ADDABLE = [
  ["region", "region"],
  ["area", "area"],
  ["network", "network"],
  ["firewall", "firewall"],
  ["fleet", "fleet"],
  ["instance", "instance"],
  ["probe", "probe"],
  ["group", "target group"],
  ["pool", "pool"],
  ["certificate", "certificate"],
  ["balancer", "balancer"],
  ["listener", "listener"],
  ["name", "name"],
  ["client", "client group"],
  ["drill", "drill"],
] as const;
