/** Which addresses machines, balancers and fronts have, given or taken from the next that is free. Pure. */
import type { PlanDocument, Schemas } from "../api/client";

/** By `machine`, `balancer` and `balancer/zone`. */
export type AddressMap = ReadonlyMap<string, string[]>;

export const NO_ADDRESSES: AddressMap = new Map();

export function addressMap(entries: readonly Schemas["IndexEntry"][], document: PlanDocument): AddressMap {
  const found = new Map<string, string[]>();
  for (const { kind, name, addresses } of entries) {
    if (kind === "instance") found.set(name, addresses);
    if (kind === "fleet") addresses.forEach((one, place) => one && found.set(`${name}-${place + 1}`, [one]));
    if (kind === "balancer") {
      found.set(name, addresses);
      const balancer = document.balancers.find((one) => one.name === name);
      for (const [place, zone] of Object.keys(balancer?.zones ?? {}).entries()) {
        const own = balancer?.address_kind === "per-zone" ? addresses.slice(place, place + 1) : addresses;
        found.set(`${name}/${zone}`, own);
      }
    }
  }
  return found;
}
