/** What can be added, and which of its fields are asked first. */
import { ADDABLE } from "../../../plan/kinds";
import { KINDS, type ObjectKind } from "../../../plan/names";

export type AddKind = ObjectKind | "listener";

export const OFFERED: AddKind[] = ADDABLE.map(([kind]) => kind);

/** Fields that are asked of something new, or of a part of it (`at`: where in it that stands). */
interface Asked {
  at: string;
  definition: string;
  title?: string;
  fields: string[];
}

const own = (kind: ObjectKind, ...fields: string[]): Asked => ({ at: "", definition: KINDS[kind].definition, fields: ["name", ...fields] });

export const ASKED: Record<AddKind, Asked[]> = {
  region: [own("region", "zones")],
  area: [own("area", "latency_ms")],
  network: [own("network", "region", "cidr")],
  firewall: [own("firewall", "allow_in")],
  fleet: [own("fleet", "zones", "count"), { at: "/instance", definition: "Machine", title: "Each instance", fields: ["capacity_rps", "service_ms", "serves"] }],
  instance: [own("instance", "zone", "subnet", "capacity_rps", "service_ms", "serves")],
  probe: [own("probe", "protocol", "port", "path", "interval_s", "timeout_s", "unhealthy_after", "healthy_after")],
  group: [own("group", "protocol", "port", "probe", "balance")],
  pool: [own("pool", "tiers")],
  certificate: [own("certificate", "hosts", "expires")],
  balancer: [
    own("balancer", "layer", "exposure", "address_kind", "zones"),
    { at: "/listeners/0", definition: "Listener", title: "Its listener", fields: ["protocol", "port", "certificate"] },
    { at: "/listeners/0/otherwise", definition: "Action", title: "Where that sends", fields: ["pool"] },
  ],
  listener: [
    { at: "", definition: "Listener", fields: ["name", "protocol", "port", "certificate"] },
    { at: "/otherwise", definition: "Action", title: "Where it sends", fields: ["pool"] },
  ],
  name: [own("name", "ttl_s", "choose", "answers", "probe")],
  client: [own("client", "area", "rps", "calls")],
  drill: [own("drill", "title", "lasts_s", "steps")],
};

export function wordsOf(kind: AddKind): string {
  return kind === "listener" ? "listener" : KINDS[kind].words;
}

export function isAddKind(word: string | undefined): word is AddKind {
  return OFFERED.some((one) => one === word);
}
