import type { Part } from "../api/client";
import { OBJECT_KINDS, type ObjectKind } from "./names";

/** The zone of what no part of the plan owns: an address or a host that is a target or an answer. */
export const OUTSIDE = "outside";

/** Parts of the board that are no object of their own. */
const BOARD_KINDS = ["listener", "front", "zone", "berth"] as const;

/** What can be selected: the parts of the board, and every kind of object. */
export type Kind = (typeof BOARD_KINDS)[number] | ObjectKind;

export interface Selection {
  kind: Kind;
  /** `fells-2`; for parts of parts with a slash: `tiles/tiles-8`, `fells-front/fells-1`. */
  name: string;
}

const KINDS: readonly string[] = [...BOARD_KINDS, ...OBJECT_KINDS];

/** Reads `kind:name` as it stands in the address bar; undefined when it is neither. */
export function parseSelection(text: string | undefined): Selection | undefined {
  const colon = text?.indexOf(":") ?? -1;
  if (!text || colon < 1) return undefined;
  const kind = text.slice(0, colon);
  const name = text.slice(colon + 1);
  return KINDS.includes(kind) && name ? { kind: kind as Kind, name } : undefined;
}

export function formatSelection(selection: Selection): string {
  return `${selection.kind}:${selection.name}`;
}

/** The two halves of a name such as `tiles/tiles-8`. */
export function halves(name: string): [string, string] {
  const slash = name.indexOf("/");
  return slash < 0 ? [name, ""] : [name.slice(0, slash), name.slice(slash + 1)];
}

/** The part of the plan that breaking a selection loses; undefined where there is nothing to break. */
export function partOf(selection: Selection): Part | undefined {
  const [first, second] = halves(selection.name);
  switch (selection.kind) {
    case "zone":
      return selection.name === OUTSIDE ? undefined : { zone: selection.name };
    case "region":
      return { region: selection.name };
    case "instance":
      return { instance: selection.name };
    case "berth":
      return machineOrEnd(second);
    case "front":
      return { front: { balancer: first, zone: second } };
    default:
      return undefined;
  }
}

/** A target as a part: an instance, whose name holds no dot; or an address or a host outside the plan. */
function machineOrEnd(name: string): Part {
  if (/^[\d.]+$/.test(name) || name.includes(":")) return { address: name };
  return name.includes(".") ? { host: name } : { instance: name };
}

/** How a lost selection is called in a sentence. */
export function lostName(selection: Selection): string {
  const [first, second] = halves(selection.name);
  if (selection.kind === "berth") return second;
  return selection.kind === "front" ? `the ${second} front of ${first}` : selection.name;
}
