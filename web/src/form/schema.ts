/** The plan's JSON Schema, read for forms: what kind of field stands where, and what it names. Pure. */

export interface Schema {
  $ref?: string;
  type?: string;
  enum?: unknown[];
  const?: unknown;
  anyOf?: Schema[];
  properties?: Record<string, Schema>;
  required?: string[];
  items?: Schema;
  additionalProperties?: Schema | boolean;
  propertyNames?: Schema;
  default?: unknown;
  description?: string;
  minimum?: number;
  exclusiveMinimum?: number;
  maximum?: number;
  minItems?: number;
  minProperties?: number;
  oneOf?: { required?: string[]; "x-beside"?: string[] }[];
  "x-refers-to"?: string;
  /** What the field is called, in which unit, and something that may stand there. */
  "x-label"?: string;
  "x-unit"?: string;
  "x-sample"?: unknown;
  $defs?: Record<string, Schema>;
}

/** What a field is, for the form that edits it. */
export type Field =
  | { kind: "number"; whole: boolean; least: number | undefined; most: number | undefined }
  | { kind: "text" }
  | { kind: "yes-no" }
  | { kind: "choice"; words: unknown[] }
  | { kind: "reference"; to: string }
  | { kind: "list"; of: Field; schema: Schema }
  | { kind: "map"; keys: string | undefined; of: Field; schema: Schema }
  | { kind: "object"; schema: Schema };

export interface FieldInfo {
  field: Field;
  nullable: boolean;
  schema: Schema;
}

/** Follows references into the definitions. */
export function resolve(root: Schema, schema: Schema): Schema {
  const name = schema.$ref?.split("/").at(-1);
  if (!name) return schema;
  return { ...resolve(root, root.$defs?.[name] ?? {}), ...schema, $ref: undefined };
}

/** What kind of field a schema describes, and whether it may be empty. */
export function fieldInfo(root: Schema, schema: Schema): FieldInfo {
  const plain = resolve(root, schema);
  const options = (plain.anyOf ?? []).map((one) => resolve(root, one));
  const nullable = options.some((one) => one.type === "null");
  const real = options.filter((one) => one.type !== "null");
  if (real.length > 1) return { field: mixed(real), nullable, schema: plain };
  const only = real[0] ?? plain;
  return { field: fieldOf(root, only), nullable, schema: only };
}

/** `same` or a number, `any` or a list: what is written as text and read back as either. */
function mixed(options: Schema[]): Field {
  const words = options.flatMap((one) => one.enum ?? (one.const === undefined ? [] : [one.const]));
  return words.length === options.length ? { kind: "choice", words } : { kind: "text" };
}

function fieldOf(root: Schema, schema: Schema): Field {
  if (schema["x-refers-to"] && schema["x-refers-to"] !== "rule peer") return { kind: "reference", to: schema["x-refers-to"] };
  if (schema.enum) return { kind: "choice", words: schema.enum };
  if (schema.const !== undefined) return { kind: "choice", words: [schema.const] };
  if (schema.type === "number" || schema.type === "integer") {
    return { kind: "number", whole: schema.type === "integer", least: schema.minimum ?? schema.exclusiveMinimum, most: schema.maximum };
  }
  if (schema.type === "boolean") return { kind: "yes-no" };
  if (schema.type === "array") {
    const items = resolve(root, schema.items ?? {});
    return { kind: "list", of: fieldInfo(root, items).field, schema: items };
  }
  if (schema.type === "object" && schema.properties) return { kind: "object", schema };
  if (schema.type === "object") {
    const values = typeof schema.additionalProperties === "object" ? schema.additionalProperties : {};
    const inner = fieldInfo(root, values);
    return { kind: "map", keys: schema.propertyNames?.["x-refers-to"], of: inner.field, schema: inner.schema };
  }
  return { kind: "text" };
}

/** A new object with what the schema requires: the first word of a choice, nought, an empty list. */
export function blank(root: Schema, schema: Schema, names: (kind: string) => string[]): unknown {
  const { field, nullable, schema: plain } = fieldInfo(root, schema);
  if (plain.default !== undefined) return plain.default;
  if (nullable) return null;
  switch (field.kind) {
    case "number":
      return Math.ceil(Math.max(field.least ?? 0, plain.exclusiveMinimum === undefined ? 0 : 1));
    case "choice":
      return field.words[0];
    case "reference":
      return names(field.to)[0] ?? "";
    case "yes-no":
      return false;
    case "list":
      return Array.from({ length: plain.minItems ?? 0 }, () => blank(root, field.schema, names));
    case "map":
      return (plain.minProperties ?? 0) > 0 && field.keys ? { [names(field.keys)[0] ?? ""]: freshEntry(field.of) } : {};
    case "object":
      return blankObject(root, plain, names);
    default:
      return "";
  }
}

/** The value of a new entry of a map: a weight of one, nothing where a reference may be empty. */
export function freshEntry(of: Field): unknown {
  if (of.kind === "reference") return null;
  return of.kind === "number" ? 1 : "";
}

/** Fields of which exactly one is given, each with those that may stand beside it. */
export function alternatives(schema: Schema): { name: string; needed: string[]; beside: string[] }[] {
  return (schema.oneOf ?? []).flatMap(({ required = [], "x-beside": beside = [] }) => {
    const [name, ...needed] = required;
    return name === undefined ? [] : [{ name, needed, beside }];
  });
}

/** What a new entry says where the plan asks for text: something that the plan accepts, to be written over. */
export function sampled(schema: Schema, value: unknown): unknown {
  const empty = value === "" || (Array.isArray(value) && value.length === 1 && value[0] === "");
  return empty ? (schema["x-sample"] ?? value) : value;
}

/** A new item of a list beside its siblings: its name is one that none of them has. */
export function blankItem(root: Schema, schema: Schema, siblings: unknown[], names: (kind: string) => string[]): unknown {
  const made = blank(root, schema, names);
  if ("at_most" in (schema.properties ?? {})) return { ...(made as object), at_most: 0 };
  const named = made as { name?: string } | null;
  const sample = schema.properties?.["name"]?.["x-sample"];
  if (sample === undefined || named?.name !== sample) return made;
  const taken = new Set(siblings.map((one) => (one as { name?: string }).name));
  let number = 1;
  while (taken.has(`new-${number}`)) number += 1;
  return { ...named, name: `new-${number}` };
}

/** Only what is required; where exactly one of several fields is wanted, the first. */
export function blankObject(root: Schema, schema: Schema, names: (kind: string) => string[]): Record<string, unknown> {
  const made: Record<string, unknown> = {};
  for (const name of schema.required ?? []) made[name] = sampled(schema.properties?.[name] ?? {}, blank(root, schema.properties?.[name] ?? {}, names));
  const first = alternatives(schema)[0]?.name;
  if (first && made[first] === undefined) {
    const inner = fieldInfo(root, schema.properties?.[first] ?? {});
    made[first] = blank(root, inner.schema, names) ?? blankObject(root, inner.schema, names);
  }
  return made;
}

/** A field's name as a person reads it, as the schema says; its own name where it says nothing. */
export function label(name: string, schema: Schema | undefined): string {
  return schema?.["x-label"] ?? name.charAt(0).toUpperCase() + name.slice(1).replaceAll("_", " ");
}

/** The unit of a field. */
export function unit(schema: Schema | undefined): string {
  return schema?.["x-unit"] ?? "";
}

/** What the schema says of a field of this name, wherever it first has one. */
export function propertyNamed(root: Schema | undefined, name: string): Schema | undefined {
  const definitions = [root, ...Object.values(root?.$defs ?? {})];
  return definitions.find((one) => one?.properties?.[name])?.properties?.[name];
}

/** A value with everything that the schema has a default for: what is left out is as by default, and is shown so. */
export function filled(root: Schema, schema: Schema, value: unknown): unknown {
  const { field, schema: plain } = fieldInfo(root, schema);
  if (value === null || value === undefined) return value;
  if (field.kind === "list" && Array.isArray(value)) return value.map((item) => filled(root, field.schema, item));
  if (typeof value !== "object" || Array.isArray(value)) return value;
  if (field.kind === "map") return Object.fromEntries(Object.entries(value).map(([key, item]) => [key, filled(root, field.schema, item)]));
  if (field.kind !== "object") return value;
  const given = value as Record<string, unknown>;
  const made = Object.entries(plain.properties ?? {}).map(([name, property]): [string, unknown] => {
    const known = given[name] === undefined ? resolve(root, property).default : given[name];
    return [name, filled(root, property, structuredClone(known))];
  });
  return Object.fromEntries(made.filter(([, one]) => one !== undefined));
}
