/** How a selected part can break besides being gone as a whole. Pure. */
import type { PlanDocument } from "../../../api/client";
import { halves, partOf, SLOWER, type Fault, type Selection } from "../../../plan/selection";

export interface Way {
  words: string;
  fault: Fault;
}

/** Of a machine: its process, its speed, the page that its probe asks; of a zone: its links. */
export function otherFaults(document: PlanDocument, selection: Selection): Way[] {
  if (selection.kind === "zone" || selection.kind === "region") return linksOf(document, selection);
  const machine = partOf(selection)?.instance;
  if (!machine) return [];
  const group = document.target_groups.find((one) => one.name === halves(selection.name)[0]);
  const probe = document.probes.find((one) => one.name === group?.probe);
  const page = probe && probe.protocol !== "tcp" ? probe.path : undefined;
  return [
    { words: "Its process crashes: it refuses", fault: { kind: "crash", name: machine } },
    { words: `It becomes ${SLOWER} times slower`, fault: { kind: "slow", name: machine } },
    ...(page ? [{ words: `Its page ${page} answers 503`, fault: { kind: "page" as const, name: machine + page } }] : []),
  ];
}

function linksOf(document: PlanDocument, { kind, name }: Selection): Way[] {
  const all = kind === "region" ? document.regions.map((one) => one.name) : document.regions.flatMap((one) => one.zones);
  if (!all.includes(name)) return [];
  return all.filter((one) => one !== name).map((one) => ({ words: `The link to ${one} is cut`, fault: { kind: "link", name: `${name}/${one}` } }));
}
