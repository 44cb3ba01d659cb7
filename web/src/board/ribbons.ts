/** Ribbons: flows as bands whose width is their rate. Pure geometry. */

import type { BoardState } from "../api/client";
import { failsVisibly } from "./failing";
import type { BoardLayout, Box } from "./geometry";

export interface Band {
  key: string;
  source: string;
  to: string;
  /** The band's outline as an SVG path, and the failing part of it. */
  path: string;
  failing: string | null;
  rps: number;
  failedRps: number;
}

export interface Arc {
  key: string;
  path: string;
  width: number;
  failing: boolean;
}

const WIDEST = 46;
const THINNEST = 1.5;

/** Pixels for one request per second: all clients together are as wide as the widest band. */
export function pixelsPerRps(state: BoardState): number {
  return state.rps > 0 ? WIDEST / state.rps : 0;
}

/** A band between two horizontal edges, `width` pixels wide at both. */
export function bandPath(fromX: number, fromY: number, toX: number, toY: number, width: number): string {
  const half = width / 2;
  const bend = (fromY + toY) / 2;
  const n = (value: number) => value.toFixed(1);
  return (
    `M${n(fromX - half)},${n(fromY)}C${n(fromX - half)},${n(bend)} ${n(toX - half)},${n(bend)} ${n(toX - half)},${n(toY)}` +
    `H${n(toX + half)}C${n(toX + half)},${n(bend)} ${n(fromX + half)},${n(bend)} ${n(fromX + half)},${n(fromY)}Z`
  );
}

interface End {
  middle: number;
  edge: number;
}

/** The bands of clients, names, balancers and fronts, laid side by side where they leave and arrive. */
export function bands(state: BoardState, layout: BoardLayout): Band[] {
  const boxes = boxesByPart(layout);
  const scale = pixelsPerRps(state);
  const drawn = state.ribbons.filter(
    (one) => boxes.has(one.source) && boxes.has(one.to) && !one.source.startsWith("balancer:") && isOwnZone(one.source, one.to),
  );
  const order = (part: string) => (boxes.get(part)?.x ?? 0) + (boxes.get(part)?.width ?? 0) / 2;
  const sorted = [...drawn].sort((a, b) => order(a.source) - order(b.source) || order(a.to) - order(b.to));
  const leaving = offsets(sorted.map((one) => ({ part: one.source, rps: one.rps })), scale);
  const arriving = offsets(sorted.map((one) => ({ part: one.to, rps: one.rps })), scale);
  return sorted.map((one, index) => {
    const from = boxes.get(one.source);
    const to = boxes.get(one.to);
    const width = Math.max(one.rps * scale, THINNEST);
    const start: End = { middle: centre(from) + (leaving[index] ?? 0), edge: (from?.y ?? 0) + (from?.height ?? 0) };
    const straight = isWide(one.to) && to !== undefined && within(start.middle, width, to);
    const end: End = { middle: straight ? start.middle : centre(to) + (arriving[index] ?? 0), edge: to?.y ?? 0 };
    return {
      key: `${one.source}>${one.to}`,
      source: one.source,
      to: one.to,
      path: bandPath(start.middle, start.edge, end.middle, end.edge, width),
      failing: failsVisibly(one) ? failingPath(start, end, width, one.failed_rps / one.rps) : null,
      rps: one.rps,
      failedRps: one.failed_rps,
    };
  });
}

/** Balancers and zones are wide: what comes from right above them falls straight down. */
function isWide(part: string): boolean {
  return part.startsWith("balancer:") || part.startsWith("zone:");
}

function within(middle: number, width: number, box: Box): boolean {
  return middle - width / 2 >= box.x && middle + width / 2 <= box.x + box.width;
}

function failingPath(start: End, end: End, width: number, share: number): string | null {
  if (share <= 0) return null;
  const part = Math.max(width * share, THINNEST);
  const aside = (width - part) / 2;
  return bandPath(start.middle + aside, start.edge, end.middle + aside, end.edge, part);
}

/** Flows from fronts into zones other than their own: those that fail, and those of the selected part. */
export function arcs(state: BoardState, layout: BoardLayout, selected: string | undefined): Arc[] {
  const boxes = boxesByPart(layout);
  const scale = pixelsPerRps(state);
  return state.ribbons.flatMap((one) => {
    const from = boxes.get(one.source);
    const to = boxes.get(one.to);
    if (!from || !to || !one.source.startsWith("front:") || isOwnZone(one.source, one.to)) return [];
    const failing = failsVisibly(one);
    if (!failing && selected !== one.source && selected !== one.to) return [];
    const toward = Math.sign(centre(from) - centre(to));
    const path = arcPath(centre(from), from.y + from.height, centre(to) + toward * (to.width / 2 - 18), to.y);
    return [{ key: `${one.source}>${one.to}`, path, width: Math.max((failing ? one.failed_rps : one.rps) * scale, THINNEST), failing }];
  });
}

function arcPath(fromX: number, fromY: number, toX: number, toY: number): string {
  const bend = fromY + (toY - fromY) * 0.75;
  return `M${fromX.toFixed(1)},${fromY}C${fromX.toFixed(1)},${bend} ${toX.toFixed(1)},${fromY + 2} ${toX.toFixed(1)},${toY}`;
}

function isOwnZone(source: string, to: string): boolean {
  return !source.startsWith("front:") || source.slice(source.indexOf("/") + 1) === to.slice(to.indexOf(":") + 1);
}

function centre(box: Box | undefined): number {
  return (box?.x ?? 0) + (box?.width ?? 0) / 2;
}

/** How far from the middle of their part each band stands, so that those of one part lie side by side. */
function offsets(ends: { part: string; rps: number }[], scale: number): number[] {
  const whole = new Map<string, number>();
  for (const { part, rps } of ends) whole.set(part, (whole.get(part) ?? 0) + rps * scale);
  const used = new Map<string, number>();
  return ends.map(({ part, rps }) => {
    const before = used.get(part) ?? 0;
    used.set(part, before + rps * scale);
    return before + (rps * scale) / 2 - (whole.get(part) ?? 0) / 2;
  });
}

function boxesByPart(layout: BoardLayout): Map<string, Box> {
  return new Map<string, Box>([
    ...layout.clients.map((box) => [`client:${box.name}`, box] as const),
    ...layout.names.map((box) => [`name:${box.name}`, box] as const),
    ...layout.balancers.map((box) => [`balancer:${box.name}`, box] as const),
    ...layout.fronts.map((box) => [`front:${box.name}`, box] as const),
    ...layout.zones.map((box) => [`zone:${box.name}`, box] as const),
  ]);
}
