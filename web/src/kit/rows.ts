/** Rows of text: from a spreadsheet's clipboard or a CSV file (RFC 4180), and back without formulas in them. Pure. */

import Papa from "papaparse";

/** Cells that a spreadsheet would run as a formula get an apostrophe in front. */
const FORMULA = /^[=+\-@\t\r]/;

/** Reads tab-separated rows (as spreadsheets copy them), or comma- or semicolon-separated ones. */
export function readRows(text: string): string[][] {
  const first = text.trimStart().slice(0, text.trimStart().search(/\r?\n|$/));
  const delimiter = first.includes("\t") ? "\t" : first.includes(";") && !first.includes(",") ? ";" : ",";
  const { data } = Papa.parse<string[]>(text, { delimiter });
  const rows = data.map((row) => row.map((cell) => unguarded(cell.trim())));
  return rows.filter((row) => row.some((cell) => cell !== ""));
}

function unguarded(cell: string): string {
  return cell.startsWith("'") && FORMULA.test(cell.slice(1)) ? cell.slice(1) : cell;
}

/** Writes rows as CSV; what would be a formula is made text. */
export function writeCsv(rows: string[][]): string {
  return Papa.unparse(rows.map((row) => row.map(guarded))) + "\r\n";
}

function guarded(cell: string): string {
  return FORMULA.test(cell) && !/^-?\d+(\.\d+)?$/.test(cell) ? `'${cell}` : cell;
}

/** One list of words as text: separated by commas, quoted where a word holds one. */
export function listText(words: readonly unknown[]): string {
  return words.map((word) => Papa.unparse([[String(word)]])).join(", ");
}

/** A list of words as somebody typed it: whatever stands between commas or lines is one word, spaces and all. */
export function wordsIn(text: string): string[] {
  // A quote counts at the beginning of a word only, so the space after a comma outside of quotes goes.
  const tight = text.replaceAll(/("(?:[^"]|"")*")|,[^\S\n]+/g, (_, quoted: string | undefined) => quoted ?? ",");
  const { data } = Papa.parse<string[]>(tight, { delimiter: "," });
  return data.flat().map((word) => word.trim()).filter((word) => word !== "");
}

/** Which of the columns each cell of the first row names, as far as that is a header row. */
function headerOf(rows: string[][], columns: string[]): { header: (string | undefined)[] | undefined; hasHeader: boolean } {
  const plain = (word: string) => word.toLowerCase().replaceAll(/[^a-z0-9]/g, "");
  const known = new Map(columns.map((column) => [plain(column), column]));
  const header = rows[0]?.map((cell) => known.get(plain(cell)));
  return { header, hasHeader: header?.some((column) => column !== undefined) ?? false };
}

/** The columns of a header row that are none of these. */
export function unknownColumns(rows: string[][], columns: string[]): string[] {
  const { header, hasHeader } = headerOf(rows, columns);
  return hasHeader ? (rows[0] ?? []).filter((cell, place) => cell !== "" && header?.[place] === undefined) : [];
}

/** Puts cells under the columns of their header row when there is one, else under the columns in order. */
export function underColumns(rows: string[][], columns: string[]): Record<string, string>[] {
  const { header, hasHeader } = headerOf(rows, columns);
  const order = hasHeader ? (header ?? []) : columns;
  return (hasHeader ? rows.slice(1) : rows).map((row) => {
    const made: Record<string, string> = {};
    for (const [index, cell] of row.entries()) {
      const column = order[index];
      if (column !== undefined) made[column] = cell;
    }
    return made;
  });
}
