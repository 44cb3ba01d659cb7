/** The time axis of a drill: linear where something happens, broken over quiet stretches. Pure geometry. */

import { scaleLinear } from "d3-scale";

export interface Break {
  from: number;
  to: number;
  x: number;
}

export interface TimeAxis {
  x: (second: number) => number;
  second: (x: number) => number;
  ticks: number[];
  breaks: Break[];
}

/** Around each event this many seconds are drawn to scale. */
const AROUND_S = 20;
/** Quiet stretches longer than this are broken, and drawn as if they were so long. */
const QUIET_S = 40;
/** Ticks are so far from each other, and from what says how long is left out (px): their words are not to touch. */
const APART = 40;
const ASIDE = 52;

interface Piece {
  from: number;
  to: number;
  broken: boolean;
}

/** Cuts a drill of `lasts` seconds into pieces around its events. */
export function pieces(events: readonly number[], lasts: number): Piece[] {
  const marks = [0, ...events.filter((second) => second > 0 && second < lasts), lasts].sort((a, b) => a - b);
  const cut: Piece[] = [];
  let from = 0;
  for (let index = 1; index < marks.length; index++) {
    const before = marks[index - 1] ?? 0;
    const after = marks[index] ?? lasts;
    const quietFrom = before + AROUND_S;
    const quietTo = after === lasts ? lasts : after - AROUND_S;
    if (quietTo - quietFrom <= QUIET_S) continue;
    cut.push({ from, to: quietFrom, broken: false }, { from: quietFrom, to: quietTo, broken: true });
    from = quietTo;
  }
  if (from < lasts) cut.push({ from, to: lasts, broken: false });
  return cut;
}

/** The seconds at which something happens, and those at which something is still moving: neither is quiet. */
export function busySeconds(times: readonly number[], moving: readonly boolean[], lasts: number): number[] {
  return times.flatMap((second, index) => {
    if (!moving[index]) return [second];
    const end = times[index + 1] ?? lasts;
    return Array.from({ length: Math.max(1, Math.ceil((end - second) / QUIET_S)) }, (_, step) => second + step * QUIET_S);
  });
}

/** The axis from `left` to `right` CSS pixels. */
export function timeAxis(events: readonly number[], lasts: number, left: number, right: number): TimeAxis {
  const cut = pieces(events, lasts);
  const lengths = cut.map((piece) => (piece.broken ? QUIET_S : piece.to - piece.from));
  const whole = lengths.reduce((sum, one) => sum + one, 0) || 1;
  const domain = [0, ...cut.map((piece) => piece.to)];
  const range = [left];
  for (const length of lengths) range.push((range.at(-1) ?? left) + (length / whole) * (right - left));
  const scale = scaleLinear().domain(domain).range(range).clamp(true);
  const perSecond = (right - left) / whole;
  const step = [5, 10, 15, 30, 60, 120, 300, 600, 1800, 3600].find((one) => one * perSecond >= 52) ?? 7200;
  const breaks = cut.filter((piece) => piece.broken).map(({ from, to }) => ({ from, to, x: (scale(from) + scale(to)) / 2 }));
  const ticks = cut
    .filter((piece) => !piece.broken)
    .flatMap((piece) => ticksWithin(piece, step))
    .filter((second) => breaks.every((one) => Math.abs(scale(second) - one.x) >= ASIDE))
    .filter((second, index, all) => index === 0 || scale(second) - scale(all[index - 1] ?? 0) >= APART);
  return {
    x: (second) => scale(second),
    second: (x) => scale.invert(x),
    ticks,
    breaks,
  };
}

function ticksWithin(piece: Piece, step: number): number[] {
  const first = Math.ceil(piece.from / step) * step;
  const count = Math.max(0, Math.floor((piece.to - first) / step) + 1);
  return Array.from({ length: count }, (_, index) => first + index * step);
}
