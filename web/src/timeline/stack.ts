/** Stacked step areas of a drill's served and failing rates. Pure geometry. */

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

/** The layers from the foot up: what each zone serves, then what fails; `height` pixels for the greatest total. */
export function stack(series: Pick<Schemas["SeriesAnswer"], "t_s" | "by_zone_rps" | "failed_rps">, lasts: number, axis: TimeAxis, height: number): Layer[] {
  const served = Object.entries(series.by_zone_rps).map(([name, values]) => ({ name, failed: false, values }));
  const times = series.t_s;
  const failed = series.t_s.map((_, index) =>
    Object.values(series.failed_rps).reduce((sum, values) => sum + (values[index] ?? 0), 0),
  );
  return layersOf([...served, { name: "failed", failed: true, values: failed }], times, lasts, axis, height);
}

/** Values over time, stacked from the foot up in `height` pixels; `most` is the value that fills them, by default the greatest total. */
export function layersOf(layers: { name: string; failed: boolean; values: number[] }[], times: readonly number[], lasts: number, axis: TimeAxis, height: number, most?: number): Layer[] {
  const totals = times.map((_, index) => layers.reduce((sum, layer) => sum + (layer.values[index] ?? 0), 0));
  const scale = height / (most ?? Math.max(...totals, 1e-9));
  const xs = [...times, lasts].map((second) => axis.x(second));
  let floor: number[] = times.map(() => 0);
  return layers.map((layer) => {
    const top = floor.map((value, index) => value + (layer.values[index] ?? 0));
    const path = stepArea(xs, floor, top, scale, height);
    const [low, high] = [(floor[0] ?? 0) * scale, (top[0] ?? 0) * scale];
    floor = top;
    return { name: layer.name, failed: layer.failed, path, labelY: high - low >= 13 ? height - (low + high) / 2 : null };
  });
}

function stepArea(xs: number[], floor: number[], top: number[], scale: number, height: number): string {
  const up: string[] = [];
  const down: string[] = [];
  for (let index = 0; index < top.length; index++) {
    const left = (xs[index] ?? 0).toFixed(1);
    const right = (xs[index + 1] ?? 0).toFixed(1);
    const high = (height - (top[index] ?? 0) * scale).toFixed(1);
    const low = (height - (floor[index] ?? 0) * scale).toFixed(1);
    up.push(`${left},${high}`, `${right},${high}`);
    down.unshift(`${right},${low}`, `${left},${low}`);
  }
  return up.length ? `M${up.join("L")}L${down.join("L")}Z` : "";
}
