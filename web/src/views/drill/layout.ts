/** Where things stand in the Drill view, in CSS pixels. */

export const LEFT = 120;
export const RIGHT = 12;
export const CHART_TOP = 50;
export const GAP = 14;

/** A chart or strip and what its numbers mean at a second: the formula with this drill's values in it. */
export interface Row {
  name: string;
  top: number;
  height: number;
  explain: (second: number) => string;
}

/** The row at a height, if there is one. */
export function rowAt(rows: readonly Row[], y: number): Row | undefined {
  return rows.find((row) => y >= row.top && y < row.top + row.height);
}
