/** Where everything on the board stands: zones across, the way of a request down. Pure; computes no rate. */

import type { BoardState, PlanDocument } from "../api/client";

export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
}

export interface Placed extends Box {
  name: string;
}

export interface FrontPlace extends Placed {
  balancer: string;
  zone: string;
}

export interface RowPlace {
  group: string;
  y: number;
  height: number;
}

export interface BoardLayout {
  width: number;
  height: number;
  clients: Placed[];
  names: Placed[];
  balancers: Placed[];
  fronts: FrontPlace[];
  zones: Placed[];
  rows: RowPlace[];
  labels: { clients: number; names: number; balancers: number };
}

export const LABELS = 120;
const MARGIN = 10;
const COLUMN_GAP = 6;
const REGION_GAP = 26;
const BOX_GAP = 14;
export const BERTH = 24;
export const CELL_PADDING = 6;
const CLIENTS_Y = 12;
const CLIENT_HEIGHT = 36;
const NAMES_Y = 72;
const NAME_HEIGHT = 32;
const BALANCERS_Y = 130;
const BALANCER_HEIGHT = 46;
const BALANCER_LANE = 66;
const FRONT_HEIGHT = 24;
export const ZONE_HEAD = 44;
const ROW_MIN = 62;
const CAPTION = 36;
/** Cells with more lines of berths than this fold to one line of text. */
const MOST_LINES = 3;

/** How many berths fit side by side in a cell. */
export function berthsPerLine(zoneWidth: number): number {
  return Math.max(1, Math.floor((zoneWidth - 2 * CELL_PADDING) / BERTH));
}

/** Whether a cell of so many targets is drawn berth by berth, or folded to one line. */
export function isFolded(targets: number, zoneWidth: number): boolean {
  return Math.ceil(targets / berthsPerLine(zoneWidth)) > MOST_LINES;
}

/** Lays the board out in `width` CSS pixels. */
export function layOut(document: PlanDocument, state: BoardState, width: number): BoardLayout {
  const columns = zoneColumns(document, width);
  const lanes = balancerLanes(document, columns);
  const laneCount = Math.max(1, ...[...lanes.values()].map((lane) => lane + 1));
  const zonesY = BALANCERS_Y + laneCount * BALANCER_LANE + 10;
  const rows = groupRows(state, columns, zonesY + ZONE_HEAD);
  const last = rows.at(-1);
  const bottom = Math.max(last ? last.y + last.height : 0, zonesY + ZONE_HEAD + ROW_MIN) + 6;
  const balancers = balancerBoxes(document, columns, lanes);
  const names = nameBoxes(document, balancers, width);
  return {
    width,
    height: bottom + 8,
    clients: clientBoxes(document, names, width),
    names,
    balancers,
    fronts: frontBoxes(document, columns, balancers),
    zones: [...columns].map(([name, column]) => ({ name, ...column, y: zonesY, height: bottom - zonesY })),
    rows,
    labels: { clients: CLIENTS_Y, names: NAMES_Y, balancers: BALANCERS_Y },
  };
}

interface Column {
  x: number;
  width: number;
}

function zoneColumns(document: PlanDocument, width: number): Map<string, Column> {
  const regions = document.regions ?? [];
  const zones = regions.reduce((sum, region) => sum + region.zones.length, 0);
  const gaps = regions.length * REGION_GAP + (zones - regions.length) * COLUMN_GAP - REGION_GAP;
  const each = Math.max(96, (width - LABELS - MARGIN - gaps) / Math.max(zones, 1));
  const columns = new Map<string, Column>();
  let x = LABELS;
  for (const region of regions) {
    for (const zone of region.zones) {
      columns.set(zone, { x, width: each });
      x += each + COLUMN_GAP;
    }
    x += REGION_GAP - COLUMN_GAP;
  }
  return columns;
}

function spanOf(zones: string[], columns: Map<string, Column>): Column {
  const found = zones.map((zone) => columns.get(zone)).filter((column) => column !== undefined);
  const left = Math.min(...found.map((column) => column.x));
  const right = Math.max(...found.map((column) => column.x + column.width));
  return found.length ? { x: left, width: right - left } : { x: LABELS, width: 120 };
}

/** Balancers whose spans meet stand one below the other. */
function balancerLanes(document: PlanDocument, columns: Map<string, Column>): Map<string, number> {
  const taken: Column[][] = [];
  const lanes = new Map<string, number>();
  for (const balancer of document.balancers ?? []) {
    const span = spanOf(Object.keys(balancer.zones), columns);
    const free = taken.findIndex((lane) => lane.every((other) => !meet(span, other)));
    const lane = free < 0 ? taken.length : free;
    (taken[lane] ??= []).push(span);
    lanes.set(balancer.name, lane);
  }
  return lanes;
}

function meet(one: Column, other: Column): boolean {
  return one.x < other.x + other.width && other.x < one.x + one.width;
}

function balancerBoxes(document: PlanDocument, columns: Map<string, Column>, lanes: Map<string, number>): Placed[] {
  return (document.balancers ?? []).map((balancer) => ({
    name: balancer.name,
    ...spanOf(Object.keys(balancer.zones), columns),
    y: BALANCERS_Y + (lanes.get(balancer.name) ?? 0) * BALANCER_LANE,
    height: BALANCER_HEIGHT,
  }));
}

function frontBoxes(document: PlanDocument, columns: Map<string, Column>, balancers: Placed[]): FrontPlace[] {
  return (document.balancers ?? []).flatMap((balancer, index) => {
    const box = balancers[index];
    return Object.keys(balancer.zones).flatMap((zone) => {
      const column = columns.get(zone);
      if (!box || !column) return [];
      const width = Math.min(60, column.width - 12);
      const place = { x: column.x + (column.width - width) / 2, y: box.y + box.height - 9 };
      return [{ ...place, name: `${balancer.name}/${zone}`, balancer: balancer.name, zone, width, height: FRONT_HEIGHT }];
    });
  });
}

/** Names stand above the balancer of their first answer, those of one balancer side by side. */
function nameBoxes(document: PlanDocument, balancers: Placed[], width: number): Placed[] {
  const homes = new Map(balancers.map((box) => [box.name, box]));
  const wanted = (document.names ?? []).map((name) => ({
    name: name.name,
    home: homes.get(name.answers?.[0]?.balancer ?? ""),
  }));
  return sideBySide(wanted, width, { y: NAMES_Y, height: NAME_HEIGHT, widest: 300 });
}

/** Clients stand above the first name that they call. */
function clientBoxes(document: PlanDocument, names: Placed[], width: number): Placed[] {
  const homes = new Map(names.map((box) => [box.name.toLowerCase(), box]));
  const wanted = (document.clients ?? []).map((client) => ({
    name: client.name,
    home: homes.get(hostOf(client.calls[0]?.url ?? "")),
  }));
  const spread = sideBySide(wanted, width, { y: CLIENTS_Y, height: CLIENT_HEIGHT, widest: 174, least: 168 });
  return keepApart(spread, width);
}

export function hostOf(url: string): string {
  return URL.canParse(url) ? new URL(url).hostname.replace(/^\[|\]$/g, "") : "";
}

interface Slot {
  y: number;
  height: number;
  widest: number;
  least?: number;
}

function sideBySide(wanted: { name: string; home: Box | undefined }[], width: number, slot: Slot): Placed[] {
  const elsewhere: Box = { x: LABELS, y: 0, width: width - LABELS - MARGIN, height: 0 };
  return wanted.map(({ name, home }) => {
    const siblings = wanted.filter((other) => other.home === home);
    const place = siblings.findIndex((other) => other.name === name);
    const over = home ?? elsewhere;
    const room = Math.max(over.width, (slot.least ?? 0) * siblings.length + BOX_GAP * (siblings.length - 1));
    const left = over.x + over.width / 2 - room / 2;
    const each = (room - BOX_GAP * (siblings.length - 1)) / siblings.length;
    const box = Math.min(each, slot.widest);
    const x = left + place * (each + BOX_GAP) + (each - box) / 2;
    return { name, x, y: slot.y, width: box, height: slot.height };
  });
}

/** Moves boxes right, then left, until none overlaps another and all stand on the board. */
function keepApart(boxes: Placed[], width: number): Placed[] {
  const sorted = boxes.map((box) => ({ ...box })).sort((a, b) => a.x - b.x);
  let edge = LABELS;
  for (const box of sorted) {
    box.x = Math.max(box.x, edge);
    edge = box.x + box.width + BOX_GAP;
  }
  edge = Math.max(width - MARGIN, edge - BOX_GAP > width ? edge - BOX_GAP : 0);
  for (const box of sorted.toReversed()) {
    box.x = Math.min(box.x, edge - box.width);
    edge = box.x - BOX_GAP;
  }
  const byName = new Map(sorted.map((box) => [box.name, box]));
  return boxes.map((box) => byName.get(box.name) ?? box);
}

function groupRows(state: BoardState, columns: Map<string, Column>, top: number): RowPlace[] {
  let y = top;
  return state.groups.map((group) => {
    const cells = state.cells.filter((cell) => cell.group === group.name);
    const lines = cells.map((cell) => {
      const width = columns.get(cell.zone)?.width ?? 96;
      return isFolded(cell.targets, width) ? 1 : Math.ceil(cell.targets / berthsPerLine(width));
    });
    const height = Math.max(ROW_MIN, Math.max(1, ...lines) * BERTH + CAPTION);
    const row = { group: group.name, y, height };
    y += height;
    return row;
  });
}
