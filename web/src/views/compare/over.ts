/** Two drills laid over each other: rates at any second, and as lines. Pure. */
import type { DrillAnswer } from "../../api/client";
import { eventIndexAt } from "../../plan/queries";

/** A rate over a drill: what it is right after each event, and whether it goes on to the next evenly. */
export interface Course {
  t_s: number[];
  rps: number[];
  moving: boolean[];
  lasts_s: number;
}

/** The sum of several rates over a drill. */
export function course(drill: DrillAnswer, rates: Record<string, number[]>): Course {
  const every = Object.values(rates);
  return { t_s: drill.series.t_s, rps: drill.series.t_s.map((_, at) => every.reduce((sum, one) => sum + (one[at] ?? 0), 0)), moving: drill.moving, lasts_s: drill.lasts_s };
}

/** The rate at a second. */
export function rateAt({ t_s, rps, moving, lasts_s }: Course, second: number): number {
  const at = eventIndexAt(t_s, second);
  const [here, next] = [rps[at] ?? 0, rps[at + 1] ?? rps[at] ?? 0];
  if (!moving[at]) return here;
  const [from, to] = [t_s[at] ?? 0, t_s[at + 1] ?? lasts_s];
  return to > from ? here + ((next - here) * (second - from)) / (to - from) : here;
}

/** A course as the points of a line, in a box so wide and high; `most`: the rate at its top. */
export function points(one: Course, width: number, height: number, lasts_s: number, most: number): string {
  const place = (second: number, rate: number) => `${((second / lasts_s) * width).toFixed(1)},${(height - (most > 0 ? rate / most : 0) * height).toFixed(1)}`;
  const made = one.t_s.flatMap((second, at) => {
    const [here, next] = [one.rps[at] ?? 0, one.rps[at + 1] ?? one.rps[at] ?? 0];
    return [place(second, here), place(one.t_s[at + 1] ?? one.lasts_s, one.moving[at] ? next : here)];
  });
  return made.join(" ");
}
