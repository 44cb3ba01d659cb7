/** Where everything on the board stands: zones across, the way of a request down. Pure; computes no rate. */

import type { BoardState, PlanDocument } from "../api/client";
import { isOutside } from "../plan/selection";

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
  /** The zone, or the region when it is folded. */
  zone: string;
  /** How many fronts it stands for. */
  count: number;
}

/** A column: a zone, or a region folded into one. */
export interface ColumnPlace extends Placed {
  region: string;
  folded: boolean;
  /** The first zone of its region carries the control that folds the region. */
  first: boolean;
}

export interface Folding {
  /** Regions that are shown zone by zone though there is little room. */
  open: readonly string[];
  /** The group whose targets are shown one by one though there are many. */
  expanded: string | undefined;
  /** Only these groups have a row; undefined: all. */
  only: ReadonlySet<string> | undefined;
}

export interface RowPlace {
  group: string;
  y: number;
  height: number;
  /** One line of text a cell instead of berths. */
  compact: boolean;
}

export interface BoardLayout {
  width: number;
  height: number;
  clients: Placed[];
  names: Placed[];
  balancers: Placed[];
  fronts: FrontPlace[];
  zones: ColumnPlace[];
  rows: RowPlace[];
  /** How wide and high the place of one target is. */
  berth: number;
  labels: { clients: number; names: number; balancers: number };
}

export const LABELS = 120;
const MARGIN = 10;
const COLUMN_GAP = 6;
const REGION_GAP = 26;
const BOX_GAP = 14;
/** The place of a target: as large as the board has room for. */
const BERTHS = [40, 32, 24] as const;
const SMALLEST = 24;
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
/** Rows of small plans take more room, as far as there is some. */
const ROW_MOST = 112;
const CAPTION = 36;
/** Beneath the last row. */
const FOOT = 14;
/** Cells with more lines of berths than this fold to one line of text. */
const MOST_LINES = 3;
/** Zones narrower than this make their regions fold. */
const NARROWEST = 108;
const COMPACT_ROW = 30;
/** A board with more rows than this shows one line a row. */
const MOST_ROWS = 12;

export const NOTHING_FOLDED: Folding = { open: [], expanded: undefined, only: undefined };

/** How many berths fit side by side in a cell. */
export function berthsPerLine(zoneWidth: number, berth: number): number {
  return Math.max(1, Math.floor((zoneWidth - 2 * CELL_PADDING) / berth));
}

/** Whether a cell of so many targets is drawn berth by berth, or folded to one line. */
export function isFolded(targets: number, zoneWidth: number): boolean {
  return Math.ceil(targets / berthsPerLine(zoneWidth, SMALLEST)) > MOST_LINES;
}

/** Lays the board out in `width` CSS pixels; where `room` is higher than it needs, berths and rows grow. */
export function layOut(document: PlanDocument, state: BoardState, width: number, folding: Folding = NOTHING_FOLDED, room = 0): BoardLayout {
  const columns = columnsOf(regionsShown(document, state), width, folding.open);
  const lanes = balancerLanes(document, columns);
  const laneCount = Math.max(1, ...[...lanes.values()].map((lane) => lane + 1));
  const zonesY = BALANCERS_Y + laneCount * BALANCER_LANE + 10;
  const { rows, berth } = grown(state, columns, zonesY + ZONE_HEAD, folding, room - FOOT);
  const last = rows.at(-1);
  const bottom = Math.max(last ? last.y + last.height : 0, zonesY + ZONE_HEAD + ROW_MIN) + FOOT / 2;
  const balancers = balancerBoxes(document, columns, lanes);
  const names = nameBoxes(document, balancers, width);
  return {
    width,
    height: bottom + FOOT / 2,
    clients: clientBoxes(document, names, width),
    names,
    balancers,
    fronts: frontBoxes(document, columns, balancers, lanes, laneCount),
    zones: columns.places.map((column) => ({ ...column, y: zonesY, height: bottom - zonesY })),
    rows,
    berth,
    labels: { clients: CLIENTS_Y, names: NAMES_Y, balancers: BALANCERS_Y },
  };
}

/** The plan's regions; and behind them, when something stands outside the plan, a column for that. */
function regionsShown(document: PlanDocument, state: BoardState): Pick<PlanDocument["regions"][number], "name" | "zones">[] {
  const outside = state.zones.filter((zone) => isOutside(document.regions, zone.name));
  return [...document.regions, ...outside.map(({ name }) => ({ name, zones: [name] }))];
}

interface Column {
  x: number;
  width: number;
}

type ColumnSpan = Omit<ColumnPlace, "y" | "height">;

interface Columns {
  places: ColumnSpan[];
  /** The column in which each zone stands, alone or with its region. */
  ofZone: Map<string, ColumnSpan>;
}

/** Zones side by side, regions apart; where that leaves too little room, regions fold unless they are open. */
function columnsOf(regions: Pick<PlanDocument["regions"][number], "name" | "zones">[], width: number, open: readonly string[]): Columns {
  const whole = columnWidth(regions.map((region) => region.zones.length), width);
  const folded = new Set(whole < NARROWEST && regions.length > 1 ? regions.map((region) => region.name).filter((name) => !open.includes(name)) : []);
  const counts = regions.map((region) => (folded.has(region.name) ? 1 : region.zones.length));
  const each = Math.max(64, columnWidth(counts, width));
  const places: ColumnSpan[] = [];
  const ofZone = new Map<string, ColumnSpan>();
  let x = LABELS;
  for (const region of regions) {
    const shown = folded.has(region.name) ? [region.name] : region.zones;
    for (const [index, name] of shown.entries()) {
      const column = { name, region: region.name, folded: folded.has(region.name), first: index === 0, x, width: each };
      places.push(column);
      if (!column.folded) ofZone.set(name, column);
      x += each + COLUMN_GAP;
    }
    if (folded.has(region.name)) for (const zone of region.zones) ofZone.set(zone, places.at(-1) as ColumnSpan);
    x += REGION_GAP - COLUMN_GAP;
  }
  return { places, ofZone };
}

function columnWidth(counts: number[], width: number): number {
  const columns = counts.reduce((sum, count) => sum + count, 0);
  const gaps = (counts.length - 1) * REGION_GAP + (columns - counts.length) * COLUMN_GAP;
  return (width - LABELS - MARGIN - gaps) / Math.max(columns, 1);
}

function spanOf(zones: string[], columns: Columns): Column {
  const found = zones.map((zone) => columns.ofZone.get(zone)).filter((column) => column !== undefined);
  const left = Math.min(...found.map((column) => column.x));
  const right = Math.max(...found.map((column) => column.x + column.width));
  return found.length ? { x: left, width: right - left } : { x: LABELS, width: 120 };
}

/** Balancers whose spans meet stand one below the other. */
function balancerLanes(document: PlanDocument, columns: Columns): Map<string, number> {
  const taken: Column[][] = [];
  const lanes = new Map<string, number>();
  for (const balancer of document.balancers) {
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

function balancerBoxes(document: PlanDocument, columns: Columns, lanes: Map<string, number>): Placed[] {
  return document.balancers.map((balancer) => ({
    name: balancer.name,
    ...spanOf(Object.keys(balancer.zones), columns),
    y: BALANCERS_Y + (lanes.get(balancer.name) ?? 0) * BALANCER_LANE,
    height: BALANCER_HEIGHT,
  }));
}

/** Fronts stand at the foot of their balancer; those of balancers in different lanes stand side by side. */
function frontBoxes(document: PlanDocument, columns: Columns, balancers: Placed[], lanes: Map<string, number>, laneCount: number): FrontPlace[] {
  return document.balancers.flatMap((balancer, index) => {
    const box = balancers[index];
    const counts = new Map<ColumnSpan, number>();
    for (const zone of Object.keys(balancer.zones)) {
      const column = columns.ofZone.get(zone);
      if (column) counts.set(column, (counts.get(column) ?? 0) + 1);
    }
    return [...counts].map(([column, count]) => {
      const width = Math.min(60, column.width - 8);
      const middle = column.x + (column.width * ((lanes.get(balancer.name) ?? 0) + 1)) / (laneCount + 1);
      const place = { x: middle - width / 2, y: (box?.y ?? 0) + BALANCER_HEIGHT - 9 };
      return { ...place, name: `${balancer.name}/${column.name}`, balancer: balancer.name, zone: column.name, width, height: FRONT_HEIGHT, count };
    });
  });
}

/** Names stand above the balancer of their first answer, those of one balancer side by side. */
function nameBoxes(document: PlanDocument, balancers: Placed[], width: number): Placed[] {
  const homes = new Map(balancers.map((box) => [box.name, box]));
  const wanted = document.names.map((name) => ({
    name: name.name,
    home: homes.get(name.answers[0]?.balancer ?? ""),
  }));
  return keepApart(sideBySide(wanted, width, { y: NAMES_Y, height: NAME_HEIGHT, widest: 300 }), width);
}

/** Clients stand above the first name that they call. */
function clientBoxes(document: PlanDocument, names: Placed[], width: number): Placed[] {
  const homes = new Map(names.map((box) => [box.name.toLowerCase(), box]));
  const wanted = document.clients.map((client) => ({
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
    const siblings = wanted.filter((other) => other.home?.x === home?.x && other.home?.width === home?.width);
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

interface Grown {
  rows: RowPlace[];
  berth: number;
}

/** The rows with the largest berths for which there is room, and each row a share of what is left of it. */
function grown(state: BoardState, columns: Columns, top: number, folding: Folding, room: number): Grown {
  const tries = BERTHS.map((berth) => ({ berth, rows: groupRows(state, columns, top, folding, berth) }));
  const found = tries.find(({ rows }) => endOf(rows, top) <= room) ?? tries.at(-1) ?? { berth: SMALLEST, rows: [] };
  const more = (room - endOf(found.rows, top)) / Math.max(found.rows.length, 1);
  let y = top;
  const rows = found.rows.map((row) => {
    const height = row.compact || more <= 0 ? row.height : Math.max(row.height, Math.min(row.height + more, ROW_MOST));
    const placed = { ...row, y, height };
    y += height;
    return placed;
  });
  return { rows, berth: found.berth };
}

function endOf(rows: RowPlace[], top: number): number {
  const last = rows.at(-1);
  return last ? last.y + last.height : top;
}

function groupRows(state: BoardState, columns: Columns, top: number, folding: Folding, berth: number): RowPlace[] {
  const shown = state.groups.filter((group) => folding.only === undefined || folding.only.has(group.name));
  const crowded = shown.length > MOST_ROWS;
  let y = top;
  return shown.map((group) => {
    const expanded = group.name === folding.expanded;
    const compact = crowded && !expanded;
    const height = compact ? COMPACT_ROW : Math.max(ROW_MIN, linesOf(state, columns, group.name, expanded, berth) * berth + CAPTION);
    const row = { group: group.name, y, height, compact };
    y += height;
    return row;
  });
}

/** How many lines of berths the fullest cell of a row has; a cell that is folded has one. */
function linesOf(state: BoardState, columns: Columns, group: string, expanded: boolean, berth: number): number {
  const lines = state.cells
    .filter((cell) => cell.group === group)
    .map((cell) => {
      const column = columns.ofZone.get(cell.zone);
      if (!column || column.folded || (!expanded && isFolded(cell.targets, column.width))) return 1;
      return Math.ceil(cell.targets / berthsPerLine(column.width, berth));
    });
  return Math.max(1, ...lines);
}
