import type { Part, PlanDocument } from "../api/client";
import { OBJECT_KINDS, type ObjectKind } from "./names";

/** The zone of what no part of the plan owns: an address or a host that is a target or an answer. */
/** What the zone may be called in which everything stands that no part of the plan owns. */
const OUTSIDE = ["outside", "outside the plan"];

/** Whether a zone, or region, is that one: it is called so, and is none of the plan's. */
export function isOutside(regions: PlanDocument["regions"], name: string): boolean {
  return OUTSIDE.includes(name) && !regions.some((one) => one.name === name || one.zones.includes(name));
}

/** Parts of the board that are no object of their own. */
const BOARD_KINDS = ["listener", "front", "zone", "berth"] as const;

/** What can be broken otherwise than by taking it away as a whole. */
const FAULT_KINDS = ["crash", "slow", "page", "link"] as const;

/** What can be selected: the parts of the board, and every kind of object. */
export type Kind = (typeof BOARD_KINDS)[number] | ObjectKind;

export interface Selection {
  kind: Kind;
  /** `fells-2`; for parts of parts with a slash: `tiles/tiles-8`, `fells-front/fells-1`. */
  name: string;
}

/** What is broken in a "what if": a part that could be selected, or something of it: `crash:tiles-1`, `page:tiles-1/ready`, `link:fells-1/fells-2`. */
export interface Fault {
  kind: Kind | (typeof FAULT_KINDS)[number];
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

/** Reads what is broken, as it stands in the address bar. */
export function parseFault(text: string | undefined): Fault | undefined {
  const [kind = "", name = ""] = text?.split(/:(.*)/s) ?? [];
  const fault = FAULT_KINDS.find((one) => one === kind);
  return fault && name ? { kind: fault, name } : parseSelection(text);
}

export function formatSelection(selection: Fault): string {
  return `${selection.kind}:${selection.name}`;
}

/** The two halves of a name such as `tiles/tiles-8`. */
export function halves(name: string): [string, string] {
  const slash = name.indexOf("/");
  return slash < 0 ? [name, ""] : [name.slice(0, slash), name.slice(slash + 1)];
}

/** How many times slower what is slow becomes. */
export const SLOWER = 10;

/** The part of the plan that breaking a selection loses; undefined where there is nothing to break. What is known of the
 * plan's regions tells a zone of it from what stands outside. */
export function partOf(selection: Fault, regions?: PlanDocument["regions"]): Part | undefined {
  const [first, second] = halves(selection.name);
  switch (selection.kind) {
    case "zone":
      return regions && isOutside(regions, selection.name) ? undefined : { zone: selection.name };
    case "region":
      return { region: selection.name };
    case "instance":
      return { instance: selection.name };
    case "berth":
      return machineOrEnd(second);
    case "front":
      return { front: { balancer: first, zone: second } };
    case "crash":
      return { process: selection.name };
    case "slow":
      return { slow: selection.name, factor: SLOWER };
    case "page":
      return { page: `/${second}`, instance: first, status: 503 };
    case "link":
      return { link: [first, second] };
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
export function lostName(selection: Fault): string {
  const [first, second] = halves(selection.name);
  if (selection.kind === "berth") return second;
  return selection.kind === "front" ? `the ${second} front of ${first}` : selection.name;
}

/** What is broken, as a sentence goes on after "what if": `fells-1 and fells-2 were lost`, `tiles-1 were 10 times slower`. */
export function lossWords(faults: Fault[]): string {
  const whole = faults.filter((one) => !FAULT_KINDS.some((kind) => kind === one.kind)).map(lostName);
  const others = faults.flatMap((one) => {
    const [first, second] = halves(one.name);
    if (one.kind === "crash") return [`the process of ${one.name} crashed`];
    if (one.kind === "slow") return [`${one.name} were ${SLOWER} times slower`];
    if (one.kind === "page") return [`page /${second} of ${first} answered 503`];
    return one.kind === "link" ? [`the link from ${first} to ${second} were cut`] : [];
  });
  return [...(whole.length > 0 ? [`${whole.join(" and ")} were lost`] : []), ...others].join(" and ");
}

/** What comes only now, as a sentence goes on after "as if". */
export function addedWords(parts: Fault[]): string {
  return `${parts.map(lostName).join(" and ")} ${parts.length === 1 ? "was" : "were"} added now`;
}
