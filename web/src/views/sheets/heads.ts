/** What stands over a column. */
import { label, propertyNamed, unit, type Schema } from "../../form/schema";
import type { Column } from "./sheet";

export function headOf(column: Column, schema: Schema | undefined): string {
  const property = propertyNamed(schema, column.name);
  return column.number ? `${label(column.name, property)} ${unit(property)}` : label(column.name, property);
}
