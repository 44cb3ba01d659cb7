/** A sweep as a heat map, and what is asked of it. Pure. */
import type { Schemas } from "../../api/client";

export interface Axis {
  path: string;
  low: string;
  high: string;
  step: string;
}

const WRITTEN = /^([^=]+)=([\d.]+)(?:\.\.([\d.]+)(?:\/([\d.]+))?)?$/;

/** An axis as the address bar has it: `probes/ready/interval_s=2..30/2`. */
export function readAxis(text: string): Axis | undefined {
  const found = WRITTEN.exec(text);
  if (!found?.[1] || !found[2]) return undefined;
  return { path: found[1], low: found[2], high: found[3] ?? found[2], step: found[4] ?? "1" };
}

export function writeAxis({ path, low, high, step }: Axis): string {
  return `${path.trim()}=${low.trim()}..${high.trim()}/${step.trim()}`;
}

/** The axis that is offered for a setting at first. */
export function offered({ path, low, high, step }: Schemas["Setting"]): Axis {
  return { path, low: String(low), high: String(high), step: String(step) };
}

/** How strong a cell is: 0 for the least reading of all, 1 for the greatest. */
export function strength(values: (number | null)[][], value: number | null): number {
  const known = values.flat().filter((one) => one !== null);
  const [least, most] = [Math.min(...known), Math.max(...known)];
  return value === null || most <= least ? 0 : (value - least) / (most - least);
}

/** Whether a cell is that of the plan as it is. */
export function isNow(axes: Schemas["Axis"][], row: number, column: number): boolean {
  return axes.every((axis, place) => axis.values[place === 0 ? row : column] === axis.now);
}

/** The edits that make the plan what a cell is. */
export function adopting(axes: Schemas["Axis"][], row: number, column: number): { op: "replace"; path: string; value: number }[] {
  return axes.map((axis, place) => ({ op: "replace", path: axis.place, value: axis.values[place === 0 ? row : column] ?? axis.now }));
}
