/** What stands over a column. */
import { label, propertyNamed, unit, type Schema } from "../../form/schema";
import type { Column } from "./sheet";

export function headOf(column: Column, schema: Schema | undefined): string {
  const property = propertyNamed(schema, column.name);
  return column.number ? `${label(column.name, property)} ${unit(property)}` : label(column.name, property);
}

// A letter of a head takes about so much, and the space beside them all (px).
const LETTER = 7.1;
const BESIDE = 18;

/** How wide a column must be for its cells, and for its head to be read (px). */
export const widthOf = (column: Column, head: string): number => Math.max(column.width, Math.ceil(head.length * LETTER) + BESIDE);
