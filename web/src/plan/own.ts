/** Instances that are asked at an address of their own: on the board each stands as a box of its own. Pure. */
import type { BoardState, PlanDocument, Schemas } from "../api/client";
import type { Selection } from "./selection";

/** How the server calls what stands for an instance's own address. */
export const ITSELF = " itself";

export function isOwn(name: string): boolean {
  return name.includes(ITSELF);
}

/** The instance that is meant. */
export function ownInstance(name: string): string {
  return name.split(ITSELF)[0] ?? name;
}

/** The plan as it is drawn: with a balancer for each instance that is asked itself. */
export function withOwnAddresses(document: PlanDocument, state: BoardState): PlanDocument {
  const own = state.balancers.filter((one) => isOwn(one.name));
  if (own.length === 0) return document;
  const named = new Map(document.instances.map((one) => [one.public_address, one.name]));
  const led = <Answer extends Schemas["Answer"]>(answer: Answer): Answer => {
    const instance = answer.instance ?? (answer.address ? named.get(answer.address) : undefined);
    return instance ? { ...answer, balancer: instance + ITSELF } : answer;
  };
  return {
    ...document,
    balancers: [...document.balancers, ...own.map(drawn)],
    names: document.names.map((name) => ({ ...name, answers: name.answers.map(led) })),
  };
}

function drawn({ name, fronts, listeners }: Schemas["BalancerState"]): Schemas["Balancer"] {
  const heard = listeners.map((one) => {
    const [protocol = "tcp", port = "0"] = one.name.split("-");
    return { name: one.name, protocol, port: Number(port), rules: [], otherwise: {} };
  });
  return { name, layer: 4, exposure: "public", zones: Object.fromEntries(fronts.map((one) => [one.zone, null])), listeners: heard } as unknown as Schemas["Balancer"];
}

/** What is selected when the parts of an own address are: the instance. */
export function plainSelection(selection: Selection): Selection {
  return isOwn(selection.name) && selection.kind !== "berth" ? { kind: "instance", name: ownInstance(selection.name) } : selection;
}
