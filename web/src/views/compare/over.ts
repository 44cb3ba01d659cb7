/** Two drills laid over each other: rates at any second, and as lines. Pure. */
import { eventIndexAt } from "../../plan/queries";

/** A rate over a drill: what it is right after each event, and what it has come to just before the next. */
export interface Course {
  t_s: number[];
  rps: number[];
  before: number[];
  lasts_s: number;
}

/** The rate at a second: from each event it goes evenly to what it is before the next. */
export function rateAt({ t_s, rps, before, lasts_s }: Course, second: number): number {
  const at = eventIndexAt(t_s, second);
  const [here, then] = [rps[at] ?? 0, before[at] ?? 0];
  const [from, to] = [t_s[at] ?? 0, t_s[at + 1] ?? lasts_s];
  return to > from ? here + ((then - here) * (second - from)) / (to - from) : here;
}

/** A course as the points of a line, in a box so wide and high; `most`: the rate at its top. */
export function points(one: Course, width: number, height: number, lasts_s: number, most: number): string {
  const place = (second: number, rate: number) => `${((second / lasts_s) * width).toFixed(1)},${(height - (most > 0 ? rate / most : 0) * height).toFixed(1)}`;
  return one.t_s.flatMap((second, at) => [place(second, one.rps[at] ?? 0), place(one.t_s[at + 1] ?? one.lasts_s, one.before[at] ?? 0)]).join(" ");
}
