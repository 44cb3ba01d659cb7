import { ArrowDown, ArrowUp, Plus, Trash2 } from "lucide-react";
import { createContext, useContext, useId, useState, type KeyboardEvent, type ReactNode } from "react";

import type { PlanDocument } from "../api/client";
import { IconButton } from "../kit/parts";
import { listText, wordsIn } from "../kit/rows";
import { adding, pointerPart, problemAt, removing, setting, type Operation } from "../plan/edit";
import { namesFor } from "../plan/names";
import { alternatives, blank, blankItem, blankObject, fieldInfo, freshEntry, label, sampled, unit, type Field, type FieldInfo, type Schema } from "./schema";

interface FormContext {
  root: Schema;
  document: PlanDocument;
  send: (patch: Operation[]) => void;
  error: Error | null;
  /** The place of the last edit that was refused. */
  refused: string | undefined;
}

const Context = createContext<FormContext | undefined>(undefined);

function useForm(): FormContext {
  const found = useContext(Context);
  if (!found) throw new Error("a field stands outside a form");
  return found;
}

interface ObjectFormProps extends FormContext {
  schema: Schema;
  value: Record<string, unknown>;
  path: string;
  /** Fields that are shown elsewhere. */
  leaveOut?: string[];
}

/** The fields of an object, made from its schema; each sends its edit when it is left or Enter is pressed. */
export function ObjectForm({ schema, value, path, leaveOut = [], ...context }: ObjectFormProps) {
  return (
    <Context.Provider value={context}>
      <Fields schema={schema} value={value} path={path} leaveOut={leaveOut} />
    </Context.Provider>
  );
}

function Fields({ schema, value, path, leaveOut = [] }: { schema: Schema; value: Record<string, unknown>; path: string; leaveOut?: string[] }) {
  const { root } = useForm();
  const names = Object.keys(schema.properties ?? {}).filter((name) => !leaveOut.includes(name));
  const chosen = alternatives(schema);
  const leading = chosen.find((one) => (value[one.name] ?? null) !== null);
  const either = chosen.map((one) => one.name);
  const beside = chosen.flatMap((one) => one.beside);
  return names.map((name) => {
    const belongs = name === leading?.name || leading?.beside.includes(name);
    if ((either.includes(name) || beside.includes(name)) && !belongs) return null;
    const info = fieldInfo(root, schema.properties?.[name] ?? {});
    return <FieldRow key={name} name={name} info={info} value={value[name]} path={`${path}/${pointerPart(name)}`} choices={name === leading?.name ? chosen : []} schema={schema} parent={path} />;
  });
}

interface RowProps {
  name: string;
  info: FieldInfo;
  value: unknown;
  path: string;
  choices: Choices;
  schema: Schema;
  parent: string;
}

function FieldRow({ name, info, value, path, choices, schema, parent }: RowProps) {
  const { refused, error } = useForm();
  const id = useId();
  const problem = refused !== undefined && (refused === path || refused.startsWith(`${path}/`)) ? problemAt(error, path) : undefined;
  const wide = ["list", "map", "object"].includes(info.field.kind) && !isTextList(info.field);
  const heading = choices.length > 0 ? <Alternatives name={name} options={choices} schema={schema} parent={parent} /> : <label htmlFor={id} className="text-ink-soft">{label(name)}</label>;
  return (
    <div data-path={path} className={wide ? "mt-2 border-l-2 border-line pl-2.5" : "grid min-h-7 grid-cols-[1fr_132px] items-center gap-x-2 py-px"}>
      {wide ? <p className="mb-0.5 font-medium">{heading}</p> : heading}
      <FieldValue id={id} name={name} spoken={choices.length > 0 ? label(name) : undefined} info={info} value={value} path={path} />
      {problem && (
        <p className="col-span-2 text-[12px] text-vermilion-text" role="alert">
          {problem}
        </p>
      )}
    </div>
  );
}

type Choices = ReturnType<typeof alternatives>;

/** Where exactly one of several fields is wanted: which one, to be changed. */
function Alternatives({ name, options, schema, parent }: { name: string; options: Choices; schema: Schema; parent: string }) {
  const { root, send, document } = useForm();
  const change = (next: string) => {
    const fresh = (field: string) => {
      const inner = fieldInfo(root, schema.properties?.[field] ?? {});
      return sampled(field, blank(root, { ...inner.schema, default: undefined }, (kind) => namesFor(document, kind)) ?? "");
    };
    const before = options.find((one) => one.name === name);
    const after = options.find((one) => one.name === next);
    send([
      ...[name, ...(before?.beside ?? [])].map((field) => setting(`${parent}/${field}`, null)),
      ...[next, ...(after?.needed ?? [])].map((field) => setting(`${parent}/${field}`, fresh(field))),
    ]);
  };
  return (
    <select aria-label="kind" className={`${BOX} w-auto font-medium`} value={name} onChange={(event) => change(event.target.value)}>
      {options.map((option) => (
        <option key={option.name} value={option.name}>
          {label(option.name)}
        </option>
      ))}
    </select>
  );
}

function isTextList(field: Field): boolean {
  return field.kind === "list" && ["text", "number", "reference", "choice"].includes(field.of.kind);
}

const BOX = "min-h-6 w-full min-w-0 rounded border border-line-strong bg-paper px-1.5 text-ink hover:border-ink";

interface ValueProps {
  id: string;
  name: string;
  /** How the field is called for those who do not see its label. */
  spoken?: string;
  info: FieldInfo;
  value: unknown;
  path: string;
}

function FieldValue(props: ValueProps): ReactNode {
  const { info, value, path, id } = props;
  const { send } = useForm();
  const { field, nullable } = info;
  switch (field.kind) {
    case "yes-no":
      return <input id={id} type="checkbox" className="size-6 justify-self-end accent-north" checked={value === true} onChange={(event) => send([setting(path, event.target.checked)])} />;
    case "choice":
      return <ChoiceField {...props} words={field.words} nullable={nullable} />;
    case "reference":
      return <ReferenceField {...props} to={field.to} nullable={nullable} />;
    case "number":
    case "text":
      return <TextField {...props} />;
    case "list":
      return isTextList(field) ? <TextListField {...props} /> : <ListField {...props} field={field} />;
    case "map":
      return <MapField {...props} field={field} />;
    case "object":
      return <NestedField {...props} field={field} />;
  }
}

function ChoiceField({ id, spoken, value, path, words, nullable }: ValueProps & { words: unknown[]; nullable: boolean }) {
  const { send } = useForm();
  const options = nullable ? [null, ...words] : words;
  return (
    <select id={id} aria-label={spoken} className={BOX} value={options.indexOf(value ?? null) < 0 ? options.indexOf(value) : options.indexOf(value ?? null)} onChange={(event) => send([setting(path, options[Number(event.target.value)])])}>
      {options.map((word, index) => (
        <option key={String(word)} value={index}>
          {word === null ? "as by default" : String(word).replaceAll("-", " ")}
        </option>
      ))}
    </select>
  );
}

function ReferenceField({ id, spoken, value, path, to, nullable }: ValueProps & { to: string; nullable: boolean }) {
  const { send, document } = useForm();
  const names = namesFor(document, to);
  const dangling = typeof value === "string" && value !== "" && !names.includes(value);
  return (
    <select id={id} aria-label={spoken} className={`${BOX} ${dangling ? "border-vermilion text-vermilion-text" : ""}`} value={typeof value === "string" ? value : ""} onChange={(event) => send([setting(path, event.target.value || null)])}>
      {(nullable || !value) && <option value="">none</option>}
      {dangling && <option value={value}>{value} (not in the plan)</option>}
      {names.map((name) => (
        <option key={name} value={name}>
          {name}
        </option>
      ))}
    </select>
  );
}

/** Text as it is typed; it is sent when the field is left, or Enter is pressed, and taken back with Escape. */
function useDraft(shown: string, commit: (text: string) => void) {
  const [draft, setDraft] = useState<string>();
  const leave = () => {
    if (draft !== undefined && draft !== shown) commit(draft);
    setDraft(undefined);
  };
  return {
    value: draft ?? shown,
    onChange: (event: { target: { value: string } }) => setDraft(event.target.value),
    onBlur: leave,
    onKeyDown: (event: KeyboardEvent) => {
      if (event.key === "Enter") leave();
      if (event.key === "Escape" && draft !== undefined) {
        event.stopPropagation();
        setDraft(undefined);
      }
    },
  };
}

/** What was typed, as the value that it means: a number where one may stand, nothing where it may be empty. */
export function parsed(text: string, field: Field, nullable: boolean): unknown {
  const trimmed = text.trim();
  if (trimmed === "" && nullable) return null;
  const number = Number(trimmed.replace(",", "."));
  if (field.kind === "number") return trimmed !== "" && Number.isFinite(number) ? number : trimmed;
  return /^\d+$/.test(trimmed) && field.kind === "text" && !nullable ? maybeNumber(trimmed) : trimmed;
}

function maybeNumber(text: string): unknown {
  return text.length < 6 ? Number(text) : text;
}

function TextField({ id, name, spoken, info, value, path }: ValueProps) {
  const { send } = useForm();
  const shown = value === null || value === undefined ? "" : String(value);
  const plainText = info.field.kind === "text" && typeof value === "string" && name !== "port";
  const draft = useDraft(shown, (text) => send([setting(path, plainText ? (text === "" && info.nullable ? null : text) : parsed(text, info.field, info.nullable))]));
  return (
    <span className="flex items-center gap-1">
      <input id={id} aria-label={spoken} className={`${BOX} ${info.field.kind === "number" ? "text-right font-mono text-[12px]" : ""}`} placeholder={info.nullable ? "none" : ""} inputMode={info.field.kind === "number" ? "decimal" : "text"} autoComplete="off" spellCheck={false} {...draft} />
      {unit(name) && <span className="min-w-5 shrink-0 text-[11px] text-ink-soft">{unit(name)}</span>}
    </span>
  );
}

function TextListField({ id, spoken, info, value, path }: ValueProps) {
  const { send } = useForm();
  const items = Array.isArray(value) ? value : [];
  const numbers = info.field.kind === "list" && info.field.of.kind === "number";
  const draft = useDraft(listText(items), (text) => {
    const words = wordsIn(text);
    send([setting(path, words.length === 0 && info.nullable ? null : numbers ? words.map(Number) : words)]);
  });
  return <input id={id} aria-label={spoken} className={BOX} placeholder="none" autoComplete="off" spellCheck={false} {...draft} />;
}

function ListField({ value, path, field }: ValueProps & { field: Extract<Field, { kind: "list" }> }) {
  const { send, root, document } = useForm();
  const items = Array.isArray(value) ? value : [];
  const add = () => send([adding(`${path}/-`, blankItem(root, field.schema, items, (kind) => namesFor(document, kind)))]);
  return (
    <ol className="space-y-1.5">
      {items.map((item, index) => (
        <li key={itemKey(item, index)} className="rounded border border-line bg-paper/60 px-2 py-1">
          <div className="flex items-center justify-between gap-1">
            <span className="truncate text-[12px] text-ink-soft">{itemTitle(item, index)}</span>
            <span className="flex">
              <IconButton quiet label="Move up" disabled={index === 0} onClick={() => send([{ op: "move", from: `${path}/${index}`, path: `${path}/${index - 1}` }])}>
                <ArrowUp size={12} />
              </IconButton>
              <IconButton quiet label="Move down" disabled={index === items.length - 1} onClick={() => send([{ op: "move", from: `${path}/${index}`, path: `${path}/${index + 1}` }])}>
                <ArrowDown size={12} />
              </IconButton>
              <IconButton quiet label="Remove" onClick={() => send([removing(`${path}/${index}`)])}>
                <Trash2 size={12} />
              </IconButton>
            </span>
          </div>
          {field.of.kind === "object" ? (
            <Fields schema={field.of.schema} value={item as Record<string, unknown>} path={`${path}/${index}`} />
          ) : (
            <TextListField id={`${path}-${index}`} name="" info={{ field, nullable: false, schema: field.schema }} value={item} path={`${path}/${index}`} />
          )}
        </li>
      ))}
      <li>
        <button type="button" className="flex min-h-6 items-center gap-1 text-[12px] font-medium text-north hover:underline" onClick={add}>
          <Plus size={12} aria-hidden="true" /> add
        </button>
      </li>
    </ol>
  );
}

function itemKey(item: unknown, index: number): string {
  const name = (item as { name?: string } | null)?.name;
  return name ?? String(index);
}

function itemTitle(item: unknown, index: number): string {
  const named = item as { name?: string; port?: number } | null;
  return `${index + 1}${named?.name ? ` · ${named.name}` : ""}`;
}

function MapField({ value, path, field }: ValueProps & { field: Extract<Field, { kind: "map" }> }) {
  const { send, document } = useForm();
  const entries = Object.entries((value ?? {}) as Record<string, unknown>);
  const whole = entries.reduce((sum, [, item]) => sum + (typeof item === "number" ? item : 0), 0);
  const shares = field.keys === "target_group" && whole > 0;
  const left = field.keys ? namesFor(document, field.keys).filter((name) => !entries.some(([key]) => key === name)) : [];
  const fresh = () => (field.of.kind === "list" ? [] : freshEntry(field.of));
  const freeKey = useDraft("", (text) => text && send([adding(`${path}/${pointerPart(text)}`, fresh())]));
  return (
    <div className="space-y-px">
      {entries.map(([key, item]) => (
        <div key={key} className="grid grid-cols-[1fr_112px_24px] items-center gap-x-1">
          <span className="truncate text-ink-soft" title={key}>
            {key}
            {shares && <b className="ml-1 font-semibold text-north">{Math.round((Number(item) / whole) * 100)} %</b>}
          </span>
          <FieldValue id={`${path}/${key}`} name="" spoken={key} info={{ field: field.of, nullable: field.of.kind === "reference", schema: field.schema }} value={item} path={`${path}/${pointerPart(key)}`} />
          <IconButton quiet label={`Remove ${key}`} onClick={() => send([removing(`${path}/${pointerPart(key)}`)])}>
            <Trash2 size={12} />
          </IconButton>
        </div>
      ))}
      {field.keys ? (
        left.length > 0 && (
          <select aria-label="add" className={`${BOX} w-auto text-[12px] text-north`} value="" onChange={(event) => send([adding(`${path}/${pointerPart(event.target.value)}`, fresh())])}>
            <option value="">+ add</option>
            {left.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        )
      ) : (
        <input aria-label="add" placeholder="+ add" className={`${BOX} text-[12px]`} {...freeKey} />
      )}
    </div>
  );
}

function NestedField({ value, path, info, field }: ValueProps & { field: Extract<Field, { kind: "object" }> }) {
  const { send, root, document } = useForm();
  if (value === null || value === undefined) {
    return (
      <button type="button" className="flex min-h-6 items-center gap-1 text-[12px] font-medium text-north hover:underline" onClick={() => send([setting(path, blankObject(root, field.schema, (kind) => namesFor(document, kind)))])}>
        <Plus size={12} aria-hidden="true" /> add
      </button>
    );
  }
  return (
    <div>
      <Fields schema={field.schema} value={value as Record<string, unknown>} path={path} />
      {info.nullable && (
        <button type="button" className="text-[12px] text-ink-soft hover:underline" onClick={() => send([setting(path, null)])}>
          remove
        </button>
      )}
    </div>
  );
}
