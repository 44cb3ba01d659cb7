/** Losses as drills of the plan. Pure. */
import type { PlanDocument } from "../../api/client";
import type { Loss } from "../../plan/judging";

/** A drill that loses the parts of a row at the first minute, and its name, which is not taken yet. */
export function drillOf(document: PlanDocument, row: Loss): { name: string; value: unknown } {
  const base = `lose-${row.parts.map(partName).join("-and-")}`.slice(0, 55).replace(/-+$/, "");
  const taken = new Set(document.drills.map((one) => one.name));
  let name = base;
  for (let number = 2; taken.has(name); number++) name = `${base}-${number}`;
  const steps = row.parts.map((part) => ({ at_s: 60, fail: part }));
  return { name, value: { name, title: `lose ${row.parts.map(partWords).join(" and ")}`, lasts_s: 900, phases: "worst", steps } };
}

type PartData = Loss["parts"][number];

/** Its names as part of a name: letters, digits and hyphens. */
function partName(part: PartData): string {
  const words = Object.entries(part).flatMap(([field, value]) => [...(NAMED.includes(field) ? [] : [field]), ...leaves(value)]);
  return words.join("-").toLowerCase().replaceAll(/[^a-z0-9]+/g, "-").replaceAll(/^-|-$/g, "");
}

function partWords(part: PartData): string {
  return Object.values(part).flatMap(leaves).join(" ");
}

/** What is called by its name alone. */
const NAMED = ["instance", "zone", "region", "front", "link", "address", "host", "status"];

function leaves(value: unknown): string[] {
  if (Array.isArray(value)) return value.flatMap(leaves);
  return typeof value === "object" && value !== null ? Object.values(value).flatMap(leaves) : [String(value)];
}

/** How dark a cell is, from 0 to 1: by the order of magnitude of what fails, up to the most that does. */
export function darkness(failed: number, most: number): number {
  return most > 0 && failed > 0 ? Math.max(Math.log10(1 + failed) / Math.log10(1 + most), 0.05) : 0;
}

/** The classes of parts that pairs are made of, the costliest first, and each pair by its two. */
export function pairsOf(losses: Loss[]): { classes: Loss[]; pairs: Map<string, Loss> } {
  const twos = losses.filter((one) => one.of.length === 2);
  const paired = new Set(twos.flatMap((one) => one.of));
  return { classes: losses.filter((one) => one.of.length === 1 && paired.has(one.words)), pairs: new Map(twos.map((one) => [one.of.join("\n"), one])) };
}

/** The pair of two classes, in whichever order it is told. */
export function pairOf(pairs: Map<string, Loss>, one: Loss, other: Loss): Loss | undefined {
  return pairs.get(`${one.words}\n${other.words}`) ?? pairs.get(`${other.words}\n${one.words}`);
}
