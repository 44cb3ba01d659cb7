/** The fields of an object, made from its schema. */

import { useEffect, useId, useRef, useState, type ReactNode } from "react";
import { ProblemError } from "../api/client";
import { Button } from "../kit/parts";
import { pointerPart, problemAt, setting, type Operation } from "../plan/edit";
import { firstWave, namesFor } from "../plan/names";
import { freeAddress } from "./fitting";
import { alternatives, blank, fieldInfo, label, sampled, unit, type Field, type FieldInfo, type Schema } from "./schema";
import { BOX, Context, useForm, type FieldsProps, type FormContext, type ValueProps } from "./context";
import { ChoiceField, ReferenceField, YesNoField } from "./fields/choice";
import { ListField } from "./fields/list";
import { MapField } from "./fields/map";
import { NestedField } from "./fields/nested";
import { TextField, TextListField } from "./fields/text";

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
    <Context.Provider value={{ ...context, Fields, FieldValue }}>
      <Fields schema={schema} value={value} path={path} leaveOut={leaveOut} />
    </Context.Provider>
  );
}

function Fields({ schema, value, path, leaveOut = [] }: FieldsProps) {
  const { root } = useForm();
  const names = Object.keys(schema.properties ?? {}).filter((name) => !leaveOut.includes(name));
  const chosen = alternatives(schema);
  const leading = chosen.find((one) => (value[one.name] ?? null) !== null);
  const either = chosen.map((one) => one.name);
  const beside = chosen.flatMap((one) => one.beside);
  // Whichever is chosen stands where the first of them would, and stays the same row: so the choice keeps the focus.
  const first = names.find((name) => either.includes(name));
  return names.map((field) => {
    const leads = field === first && leading !== undefined;
    const name = leads ? leading.name : field;
    if (!leads && (either.includes(name) || (beside.includes(name) && !leading?.beside.includes(name)))) return null;
    const info = fieldInfo(root, schema.properties?.[name] ?? {});
    return <FieldRow key={field} name={name} info={info} value={value[name]} path={`${path}/${pointerPart(name)}`} choices={leads ? chosen : []} schema={schema} parent={path} />;
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
  const property = schema.properties?.[name];
  const problem = refused !== undefined && (refused === path || refused.startsWith(`${path}/`)) ? problemAt(error, path) : undefined;
  const wide = ["list", "map", "object"].includes(info.field.kind) && !isTextList(info.field);
  const heading = choices.length > 0 ? <Alternatives name={name} options={choices} schema={schema} parent={parent} /> : <label htmlFor={id} className="text-ink-soft">{label(name, property)}</label>;
  return (
    <div data-path={path} className={wide ? "mt-2 border-l-2 border-line pl-2.5" : "grid min-h-7 grid-cols-[minmax(72px,1fr)_minmax(0,132px)] items-center gap-x-2 py-px"}>
      <div className={wide ? "mb-0.5 font-medium" : "contents"}>{heading}</div>
      <FieldValue id={id} name={name} spoken={choices.length > 0 ? label(name, property) : undefined} unit={unit(property)} info={choices.length > 0 ? { ...info, nullable: false } : info} value={value} path={path} />
      {problem && (
        <div className="col-span-2 text-[12px] text-vermilion-text" role="alert">
          {problem}
          <Together error={error} />
        </div>
      )}
    </div>
  );
}

/** What would have to change along with an edit that was refused, to be done as one. */
function Together({ error }: { error: Error | null }) {
  const { send } = useForm();
  if (!(error instanceof ProblemError) || !error.together) return null;
  const { patch, changes } = error.together;
  return (
    <div className="mt-1 mb-2 rounded border border-line-strong bg-foot p-2 text-ink">
      <p>Together these make a plan:</p>
      <ul className="mb-1.5 list-disc pl-4">
        {changes.map((words) => (
          <li key={words}>{words}</li>
        ))}
      </ul>
      <Button onClick={() => send(patch as unknown as Operation[])}>Change them together</Button>
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
      return sampled(schema.properties?.[field] ?? {}, blank(root, { ...inner.schema, default: undefined }, (kind) => namesFor(document, kind)) ?? "");
    };
    const before = options.find((one) => one.name === name);
    const after = options.find((one) => one.name === next);
    const first = next === "maintenance_wave" ? firstWave(document) : next === "address" ? freeAddress(document) : fresh(next);
    const usual = (field: string) => schema.properties?.[field]?.["x-sample"] ?? fresh(field);
    send([
      ...[name, ...(before?.beside ?? [])].map((field) => setting(`${parent}/${field}`, null)),
      setting(`${parent}/${next}`, first),
      ...(after?.needed ?? []).map((field) => setting(`${parent}/${field}`, usual(field))),
    ]);
  };
  const { held, hold, commit } = useHeldChoice(name, change);
  return (
    <select
      aria-label="What it is"
      className={`${BOX} font-medium`}
      value={held ?? name}
      onChange={(event) => hold(event.target.value)}
      onKeyDown={(event) => event.key === "Enter" && commit()}
      onBlur={commit}
    >
      {options.map((option) => (
        <option key={option.name} value={option.name}>
          {label(option.name, schema.properties?.[option.name])}
        </option>
      ))}
    </select>
  );
}

/** A choice by keys passes many options on its way: only where it comes to rest is an edit. */
function useHeldChoice(name: string, change: (next: string) => void) {
  const [held, setHeld] = useState<string>();
  const latest = useRef<string>(undefined);
  const timer = useRef<number>(undefined);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  const commit = () => {
    const next = latest.current;
    window.clearTimeout(timer.current);
    latest.current = undefined;
    setHeld(undefined);
    if (next !== undefined && next !== name) change(next);
  };
  const hold = (next: string) => {
    latest.current = next;
    setHeld(next);
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(commit, 400);
  };
  return { held, hold, commit };
}

function isTextList(field: Field): boolean {
  return field.kind === "list" && ["text", "number", "reference", "choice"].includes(field.of.kind);
}

/** Which field edits what: the first whose test fits, by what the schema says. */
const FIELDS: { fits: (field: Field) => boolean; show: (props: ValueProps) => ReactNode }[] = [
  { fits: ({ kind }) => kind === "yes-no", show: YesNoField },
  { fits: ({ kind }) => kind === "choice", show: ChoiceField },
  { fits: ({ kind }) => kind === "reference", show: ReferenceField },
  { fits: ({ kind }) => kind === "number" || kind === "text", show: TextField },
  { fits: isTextList, show: TextListField },
  { fits: ({ kind }) => kind === "list", show: ListField },
  { fits: ({ kind }) => kind === "map", show: MapField },
  { fits: ({ kind }) => kind === "object", show: NestedField },
];

function FieldValue(props: ValueProps): ReactNode {
  const found = FIELDS.find(({ fits }) => fits(props.info.field));
  return found && <found.show {...props} />;
}
