/** How a sheet is made of its columns: its rows, how a cell becomes an edit, and how a row is added. Pure. */
import type { PlanDocument, Schemas } from "../../api/client";
import { written } from "../../kit/format";
import { numberIn } from "../../plan/cells";
import { valueAt } from "../../plan/names";
import { adding, removing, setting, type Operation } from "../../plan/operations";

export type Item = Record<string, unknown>;

export interface Row {
  /** Where the row's object stands. */
  path: string;
  cells: Record<string, string>;
  item: Item;
}

export interface Column {
  name: string;
  width: number;
  number?: boolean;
  /** Shown only: it is given when a row is added. */
  fixed?: boolean;
  /** The references that the cell may hold. */
  refers?: string;
  /** The words that the cell may hold. */
  words?: readonly string[];
  read: (item: Item, owners: Item[], place: number) => string;
  /** The edit that writes a text into the cell. */
  write: (text: string, row: Row) => Operation[];
  /** Puts a text into a row that is being made. */
  put: (text: string, made: Item) => void;
}

export interface Sheet {
  title: string;
  rows: (document: PlanDocument) => Row[];
  columns: Column[];
  /** By which column pasted rows are matched to those that are there; none: pasted rows are added. */
  key: string | undefined;
  /** The edit that adds a row. */
  add: (cells: Record<string, string>, document: PlanDocument) => Operation[];
}

interface SheetSpec {
  title: string;
  /** The list in which the rows stand, or lists within one another. */
  lists: string[];
  key?: string;
  columns: Column[];
  /** What a new row has before its cells are put in. */
  fresh?: (cells: Record<string, string>, document: PlanDocument) => Item;
  /** The edit that adds a row whose owner is not there. */
  without?: (cells: Record<string, string>, made: Item) => Operation[];
}

/** A sheet of a list; where lists stand within one another, the first column names the owner of a row. */
export function sheetOf({ title, lists, key, columns, fresh, without }: SheetSpec): Sheet {
  return {
    title,
    key,
    columns,
    rows: (document) =>
      placed(document, lists).map(({ path, item, owners, place }) => ({
        path,
        item,
        cells: Object.fromEntries(columns.map((column) => [column.name, column.read(item, owners, place)])),
      })),
    add: (cells, document) => {
      const made: Item = { ...fresh?.(cells, document) };
      const [owner] = columns;
      for (const column of columns) {
        const cell = cells[column.name];
        if (cell?.trim() && (lists.length === 1 || column !== owner)) column.put(cell, made);
      }
      const home = lists.length === 1 ? "" : homeOf(document, lists, cells[owner?.name ?? ""] ?? "");
      if (home === undefined && without) return without(cells, made);
            // Where the owner is not there, the place says which one is missing.
      return [adding(`${home ?? `/${lists[0]}/${cells[owner?.name ?? ""] ?? ""}`}/${lists.at(-1)}/-`, made)];
    },
  };
}

interface Placed {
  path: string;
  item: Item;
  owners: Item[];
  place: number;
}

function placed(document: PlanDocument, lists: string[]): Placed[] {
  const whole: Placed[] = [{ path: "", item: document, owners: [], place: 0 }];
  const inner = lists.reduce(
    (found, list) =>
      found.flatMap(({ path, item, owners }) => ((item[list] ?? []) as Item[]).map((one, place) => ({ path: `${path}/${list}/${place}`, item: one, owners: [...owners, item], place }))),
    whole,
  );
  // The plan itself owns everything.
  return inner.map((one) => ({ ...one, owners: one.owners.slice(1) }));
}

/** Where the owner of a row stands, by its name: `fells-front/https`. */
function homeOf(document: PlanDocument, lists: string[], name: string): string | undefined {
  return placed(document, lists.slice(0, -1)).find(({ item, owners }) => namesOf([...owners, item]) === name.trim())?.path;
}

export function namesOf(owners: Item[]): string {
  return owners.map((one) => String(one["name"])).join("/");
}

function shownText(value: unknown): string {
  if (typeof value === "boolean") return value ? "yes" : "no";
  return Array.isArray(value) ? value.map(written).join(", ") : written(value);
}

function putAt(made: Item, at: string, value: unknown): void {
  const parts = at.split("/");
  const last = parts.pop() ?? "";
  let inner = made;
  for (const part of parts) inner = (inner[part] ??= {}) as Item;
  inner[last] = value;
}

type More = Partial<Omit<Column, "name" | "width">> & { at?: string; value?: (text: string, item: Item) => unknown; told?: (value: unknown) => string };

/** A column of a field; `at` is where that stands in the row's object, `value` what a text means, `told` what a value says. */
export function column(name: string, width: number, { at = name, value = textIn, told = shownText, ...more }: More = {}): Column {
  return {
    name,
    width,
    read: (item) => told(valueAt(item, `/${at}`)),
    write: (text, row) => [setting(`${row.path}/${at}`, value(text, row.item))],
    put: (text, made) => putAt(made, at, value(text, made)),
    ...more,
  };
}

function textIn(text: string): unknown {
  return text.trim() === "" ? null : text.trim();
}

export function numbers(name: string, width: number, more: More = {}): Column {
  return column(name, width, { number: true, value: numberIn, ...more });
}

const wordsOf = (cell: string) => cell.split(/[\s,;]+/).filter(Boolean);

/** A list of words; `nullable`: none is nothing instead of an empty list. */
export function list(name: string, width: number, { nullable = false, ...more }: More & { nullable?: boolean } = {}): Column {
  return column(name, width, { value: (cell) => (wordsOf(cell).length === 0 && nullable ? null : wordsOf(cell)), ...more });
}

export function yesNo(name: string, width: number, more: More = {}): Column {
  return column(name, width, { words: ["yes", "no"], value: (cell) => ({ yes: true, no: false })[cell.trim().toLowerCase()] ?? cell.trim(), ...more });
}

export function choice(name: string, width: number, words: readonly string[], more: More = {}): Column {
  return column(name, width, { words, ...more });
}

/** Values by name: `tiles: 95, tiles-next: 5`; a name alone has the usual one. */
export function pairsIn(cell: string, usual: unknown, valueOf: (text: string) => unknown): Record<string, unknown> {
  const entries = cell.split(/[,;]+/).map((one) => one.trim()).filter(Boolean);
  return Object.fromEntries(
    entries.map((one) => {
      const [name = "", value] = one.split(/[:\s]+/);
      return [name, value === undefined ? usual : valueOf(value)];
    }),
  );
}

export function pairsText(value: unknown): string {
  const entries = Object.entries((value ?? {}) as Record<string, unknown>);
  return entries.map(([name, one]) => (one === null || one === undefined ? name : `${name}: ${String(one as string | number)}`)).join(", ");
}

export function pairs(name: string, width: number, usual: unknown, valueOf: (text: string) => unknown, more: More = {}): Column {
  return column(name, width, { value: (cell) => pairsIn(cell, usual, valueOf), told: pairsText, ...more });
}

/** The column of sheets whose rows stand within other objects: which one. */
export function ownerColumn(name: string, width: number, refers?: string): Column {
  return { name, width, fixed: true, ...(refers ? { refers } : {}), read: (_, owners) => namesOf(owners), write: () => [], put: () => undefined };
}

/** Where a row stands among those of its owner, counted from 1; another number moves it there. */
export const orderColumn: Column = {
  name: "order",
  width: 60,
  number: true,
  read: (_, __, place) => String(place + 1),
  write: (cell, row) => [{ op: "move", from: row.path, path: row.path.replace(/\d+$/, String(Math.max(Number(cell) - 1, 0))) }],
  put: () => undefined,
};

/** Of several fields of which one is given: which, and what it says. */
export function eitherColumns(kindName: string, valueName: string, width: number, kinds: readonly string[]): [Column, Column] {
  const given = (item: Item) => kinds.find((one) => item[one] !== null && item[one] !== undefined) ?? kinds[0] ?? "";
  const kind: Column = {
    name: kindName,
    width: 90,
    words: kinds,
    read: given,
    write: (text, row) => {
      const [before, after] = [given(row.item), text.trim()];
      if (!kinds.includes(after)) return [setting(`${row.path}/${after}`, row.item[before])];
      return before === after ? [] : [setting(`${row.path}/${before}`, null), setting(`${row.path}/${after}`, row.item[before])];
    },
    put: (text, made) => {
      made["kind of it"] = text.trim();
    },
  };
  const value: Column = {
    name: valueName,
    width,
    read: (item) => shownText(item[given(item)]),
    write: (text, row) => [setting(`${row.path}/${given(row.item)}`, text.trim())],
    put: (text, made) => {
      const as = (made["kind of it"] ?? kinds[0]) as string;
      delete made["kind of it"];
      made[as] = text.trim();
    },
  };
  return [kind, value];
}

export interface PastedChange {
  kind: "added" | "changed" | "same";
  name: string;
  words: string;
  operations: Operation[];
}

/** What pasted rows would change: by the key column those that are there, the rest is added. */
export function pastedChanges(sheet: Sheet, document: PlanDocument, pasted: Record<string, string>[]): PastedChange[] {
  const present = sheet.rows(document);
  return pasted.map((cells) => {
    const key = sheet.key;
    const row = key ? present.find((one) => one.cells[key] === cells[key]) : undefined;
    const name = cells[key ?? sheet.columns[0]?.name ?? ""] ?? "";
    if (!row) return { kind: "added", name, words: Object.values(cells).filter(Boolean).join(" · "), operations: sheet.add(cells, document) };
    const changed = sheet.columns.filter((column) => !column.fixed && cells[column.name] !== undefined && cells[column.name] !== row.cells[column.name]);
    return {
      kind: changed.length ? "changed" : "same",
      name,
      words: changed.map((column) => `${column.name} ${cells[column.name] || "nothing"}, was ${row.cells[column.name] || "nothing"}`).join("; "),
      operations: changed.flatMap((column) => column.write(cells[column.name] ?? "", row)),
    };
  });
}

/** Takes rows out, from the back, so that none moves another. */
export function removingRows(rows: Pick<Row, "path">[]): Operation[] {
  const number = (path: string) => path.split("/").map((part) => (/^\d+$/.test(part) ? part.padStart(8, "0") : part)).join("/");
  return [...rows].sort((a, b) => number(b.path).localeCompare(number(a.path))).map((row) => removing(row.path));
}

export type Service = Schemas["Service"];
