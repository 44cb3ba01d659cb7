/** Rows of text: from a spreadsheet's clipboard or a CSV file (RFC 4180), and back without formulas in them. Pure. */

/** Cells that a spreadsheet would run as a formula get an apostrophe in front. */
const FORMULA = /^[=+\-@\t\r]/;

/** Reads tab-separated rows (as spreadsheets copy them), or comma- or semicolon-separated ones. */
export function readRows(text: string): string[][] {
  const first = text.slice(0, text.search(/\r?\n|$/));
  const separator = first.includes("\t") ? "\t" : first.includes(";") && !first.includes(",") ? ";" : ",";
  const rows: string[][] = [[]];
  let cell = "";
  let quoted = false;
  const endCell = () => {
    rows.at(-1)?.push(cell.trim());
    cell = "";
  };
  for (let index = 0; index < text.length; index++) {
    const sign = text.charAt(index);
    if (quoted && sign === '"' && text.charAt(index + 1) === '"') {
      cell += '"';
      index++;
    } else if (sign === '"' && (quoted || cell.trim() === "")) {
      quoted = !quoted;
    } else if (!quoted && sign === separator) {
      endCell();
    } else if (!quoted && (sign === "\n" || sign === "\r")) {
      if (sign === "\r" && text.charAt(index + 1) === "\n") index++;
      endCell();
      rows.push([]);
    } else {
      cell += sign;
    }
  }
  endCell();
  return rows.filter((row) => row.some((one) => one !== "")).map((row) => row.map(unguarded));
}

function unguarded(cell: string): string {
  return cell.startsWith("'") && FORMULA.test(cell.slice(1)) ? cell.slice(1) : cell;
}

/** Writes rows as CSV; what would be a formula is made text. */
export function writeCsv(rows: string[][]): string {
  return rows.map((row) => row.map(csvCell).join(",")).join("\r\n") + "\r\n";
}

function csvCell(cell: string): string {
  const number = /^-?\d+(\.\d+)?$/.test(cell);
  const safe = FORMULA.test(cell) && !number ? `'${cell}` : cell;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

/** Puts cells under the columns of their header row when there is one, else under the columns in order. */
export function underColumns(rows: string[][], columns: string[]): Record<string, string>[] {
  const plain = (word: string) => word.toLowerCase().replaceAll(/[^a-z0-9]/g, "");
  const known = new Map(columns.map((column) => [plain(column), column]));
  const header = rows[0]?.map((cell) => known.get(plain(cell)));
  const hasHeader = header?.some((column) => column !== undefined) ?? false;
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
