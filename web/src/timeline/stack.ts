/** Stacked areas of a drill's served and failing rates. Pure geometry. */

import type { Schemas } from "../api/client";
import type { TimeAxis } from "./axis";

/** One shade of water for each zone, the same wherever zones are told by colour. */
const WATER = ["var(--water-3)", "var(--water-2)", "var(--water-1)"];

export function zoneTone(index: number): string {
  return index < 0 ? "var(--line-strong)" : (WATER[index % WATER.length] ?? "");
}

export interface Layer {
  name: string;
  failed: boolean;
  path: string;
  /** Where its name may stand at the left edge; null where it is too thin for it. */
  labelY: number | null;
}

/** Values over time: right after each second, and just before the next one, where they go there along a straight line (as they are if left out). */
export interface Values {
  values: number[];
  before?: number[] | undefined;
}

/** The most that each value comes to until the next second. */
export function mostUntilNext({ values, before = values }: Values): number[] {
  return values.map((value, index) => Math.max(value, before[index] ?? value));
}

/** The layers from the foot up: what each zone serves, then what fails; `height` pixels for the greatest total. */
export function stack(series: Pick<Schemas["SeriesAnswer"], "t_s" | "by_zone_rps" | "all_failed_rps" | "before">, lasts: number, axis: TimeAxis, height: number, most?: number): Layer[] {
  const served = Object.entries(series.by_zone_rps).map(([name, values]) => ({ name, failed: false, values, before: series.before?.by_zone_rps[name] }));
  const failed = { name: "failed", failed: true, values: series.all_failed_rps, before: series.before?.all_failed_rps };
  return layersOf([...served, failed], series.t_s, lasts, axis, height, most);
}

/** Values over time, stacked from the foot up in `height` pixels; `most` is the value that fills them, by default the greatest total. */
export function layersOf(layers: ({ name: string; failed: boolean } & Values)[], times: readonly number[], lasts: number, axis: TimeAxis, height: number, most?: number): Layer[] {
  const sums = (of: (layer: Values) => number[]) => times.map((_, index) => layers.reduce((sum, layer) => sum + (of(layer)[index] ?? 0), 0));
  const greatest = Math.max(...sums((layer) => layer.values), ...sums((layer) => layer.before ?? layer.values), 1e-9);
  const scale = height / (most ?? greatest);
  const xs = [...times, lasts].map((second) => axis.x(second));
  let floor = times.map(() => 0);
  let floorBefore = floor;
  return layers.map((layer) => {
    const top = floor.map((value, index) => value + (layer.values[index] ?? 0));
    const topBefore = floorBefore.map((value, index) => value + ((layer.before ?? layer.values)[index] ?? 0));
    const path = areaBetween(xs, [floor, floorBefore], [top, topBefore], scale, height);
    const [low, high] = [(floor[0] ?? 0) * scale, (top[0] ?? 0) * scale];
    [floor, floorBefore] = [top, topBefore];
    return { name: layer.name, failed: layer.failed, path, labelY: high - low >= 13 ? height - (low + high) / 2 : null };
  });
}

/** What lies between two lines, each by its values after a second and before the next. */
function areaBetween(xs: number[], floor: [number[], number[]], top: [number[], number[]], scale: number, height: number): string {
  const up: string[] = [];
  const down: string[] = [];
  const y = (values: number[], index: number) => (height - (values[index] ?? 0) * scale).toFixed(1);
  for (let index = 0; index < top[0].length; index++) {
    const left = (xs[index] ?? 0).toFixed(1);
    const right = (xs[index + 1] ?? 0).toFixed(1);
    up.push(`${left},${y(top[0], index)}`, `${right},${y(top[1], index)}`);
    down.unshift(`${right},${y(floor[1], index)}`, `${left},${y(floor[0], index)}`);
  }
  return up.length ? `M${up.join("L")}L${down.join("L")}Z` : "";
}
