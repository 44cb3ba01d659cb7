import { Trash2 } from "lucide-react";
import { useState } from "react";

import { api, dataOf, type PlanDocument } from "../api/client";
import { Button, Section } from "../kit/parts";
import { removing, setting, useEdit, type Operation } from "../plan/edit";
import { useSchema } from "../plan/queries";
import { ObjectForm } from "./form";
import { KINDS, OBJECT_KINDS, placeOf, serverKind, valueAt, type ObjectKind } from "../plan/names";
import { resolve, type Schema } from "./schema";

interface ObjectSectionProps {
  planKey: string;
  document: PlanDocument;
  kind: ObjectKind;
  name: string;
  title?: string;
  /** Edits a part of the object, such as `/listeners/0`, with this definition. */
  inside?: { path: string; definition: string };
  leaveOut?: string[];
  /** The second under the cursor, where there is one. */
  at?: number | undefined;
  onRenamed?: (name: string) => void;
  onDeleted?: () => void;
}

/** An object's settings, edited in place: its name, its fields, and how it is deleted. */
export function ObjectSection({ planKey, document, kind, name, title, inside, leaveOut = [], at, onRenamed, onDeleted }: ObjectSectionProps) {
  const schema = useSchema();
  const { edit } = useEdit(planKey);
  const [sent, setSent] = useState<string>();
  const [gone, setGone] = useState<Going>();
  const place = placeOf(document, kind, name);
  if (!schema.data || place === undefined) return null;
  const root = schema.data as Schema;
  const path = place + (inside?.path ?? "");
  const value = valueAt(document, path);
  const definition = resolve(root, { $ref: `#/$defs/${inside?.definition ?? KINDS[kind].definition}` });
  const send = (patch: Operation[]) => {
    setSent(patch.at(-1)?.path);
    setGone(undefined);
    void withReferences(planKey, document, patch).then((whole) => {
      if (whole.places.length) setGone(whole);
      else edit.mutate(whole.patch);
    });
  };
  const listed = inside !== undefined && inside.path !== "" && nameOf(value) !== undefined;
  return (
    <Section title={title ?? "Settings"}>
      {gone && <Referring going={gone} onDelete={() => edit.mutate(gone.patch, { onSettled: () => setGone(undefined) })} onKeep={() => setGone(undefined)} />}
      <ObjectForm
        root={root}
        document={document}
        schema={definition}
        value={value as Record<string, unknown>}
        path={path}
        leaveOut={["name", ...leaveOut]}
        send={send}
        error={edit.error}
        refused={edit.isError ? sent : undefined}
        at={at}
      />
      {!inside && onDeleted && <NameAndEnd planKey={planKey} name={name} prepare={askingFor(planKey, kind, name)} onRenamed={onRenamed} onDeleted={onDeleted} />}
      {listed && onDeleted && <NameAndEnd planKey={planKey} name={nameOf(value) ?? ""} prepare={standingAt(path)} onRenamed={onRenamed} onDeleted={onDeleted} />}
    </Section>
  );
}

function nameOf(value: unknown): string | undefined {
  return (value as { name?: string } | undefined)?.name;
}

/** Something that is to go: its name, the places that refer to it, and the edit that takes it and them away. */
interface Going {
  name: string;
  places: string[];
  patch: Operation[];
}

/** An edit of a subnet's name, or its end, with all that refers to it; any other edit as it is. */
async function withReferences(planKey: string, document: PlanDocument, patch: Operation[]): Promise<Going> {
  const [only, ...more] = patch;
  const subnet = /^(\/networks\/\d+\/subnets\/\d+)(\/name)?$/.exec(only?.path ?? "");
  const name = (subnet?.[1] && nameOf(valueAt(document, subnet[1]))) ?? "";
  const asked = askingFor(planKey, "subnet", name);
  if (name && more.length === 0 && only?.op === "replace" && subnet?.[2]) return { name, places: [], patch: await asked.rename(String(only.value)) };
  if (name && more.length === 0 && only?.op === "remove" && !subnet?.[2]) return { name, ...(await asked.remove()) };
  return { name, places: [], patch };
}

/** Lists of objects, each with a place of its own: no fields of the plan's own form. */
const OWN_PLACES = ["northgate", "name", "drills", ...OBJECT_KINDS.map((kind) => KINDS[kind].list)];

/** The plan's own settings: its title, notes, and what the platform allows. */
export function PlanSection({ planKey, document }: { planKey: string; document: PlanDocument }) {
  const schema = useSchema();
  const { edit } = useEdit(planKey);
  const [sent, setSent] = useState<string>();
  if (!schema.data) return null;
  const root = schema.data as Schema;
  const send = (patch: Operation[]) => {
    setSent(patch.at(-1)?.path);
    edit.mutate(patch);
  };
  const form = { root, document, send, error: edit.error, refused: edit.isError ? sent : undefined };
  return (
    <Section title="Settings of the plan">
      <ObjectForm {...form} schema={root} value={document} path="" leaveOut={[...OWN_PLACES, "platform"]} />
      <details className="mt-3">
        <summary className="min-h-6 cursor-pointer font-medium text-north">What the platform allows, and its prices</summary>
        <ObjectForm {...form} schema={resolve(root, { $ref: "#/$defs/Platform" })} value={document.platform} path="/platform" />
      </details>
    </Section>
  );
}

/** The edits that give something another name, and that take it away; with all that refers to it. */
interface Prepare {
  rename: (to: string) => Promise<Operation[]>;
  remove: () => Promise<{ places: string[]; patch: Operation[] }>;
}

/** The server knows what refers to an object. */
function askingFor(planKey: string, kind: ObjectKind | "subnet", name: string): Prepare {
  const asked = { kind: kind === "subnet" ? kind : serverKind(kind), name };
  const path = { key: planKey };
  return {
    rename: async (to) => dataOf(await api.GET("/api/plans/{key}/renaming", { params: { path, query: { ...asked, to } } })).patch as unknown as Operation[],
    remove: async () => {
      const { places, patch } = dataOf(await api.GET("/api/plans/{key}/removal", { params: { path, query: asked } }));
      return { places, patch: patch as unknown as Operation[] };
    },
  };
}

/** Nothing refers to what has its name within another object, as a listener has. */
function standingAt(path: string): Prepare {
  return {
    rename: (to) => Promise.resolve([setting(`${path}/name`, to)]),
    remove: () => Promise.resolve({ places: [], patch: [removing(path)] }),
  };
}

interface NameAndEndProps {
  planKey: string;
  name: string;
  prepare: Prepare;
  onRenamed: ((name: string) => void) | undefined;
  onDeleted: () => void;
}

/** Renaming takes references along; deleting says who refers to it first. */
function NameAndEnd({ planKey, name, prepare, onRenamed, onDeleted }: NameAndEndProps) {
  const { edit } = useEdit(planKey);
  const [draft, setDraft] = useState<string>();
  const [users, setUsers] = useState<{ places: string[]; patch: Operation[] }>();
  const [problem, setProblem] = useState<string>();

  const ask = async () => {
    const ready = await prepare.remove();
    if (ready.places.length === 0) remove(ready.patch);
    else setUsers(ready);
  };
  const remove = (patch: Operation[]) => edit.mutate(patch, { onSuccess: onDeleted, onError: (error) => setProblem(error.message) });
  const rename = async () => {
    const to = draft?.trim();
    setDraft(undefined);
    if (!to || to === name) return;
    edit.mutate(await prepare.rename(to), { onSuccess: () => onRenamed?.(to), onError: (error) => setProblem(error.message) });
  };
  return (
    <div className="mt-4 border-t border-line pt-2">
      <div className="flex items-center gap-2">
        <label className="flex min-w-0 flex-1 items-center gap-2 text-ink-soft">
          Name
          <input
            className="min-h-6 w-full min-w-0 rounded border border-line-strong bg-paper px-1.5 text-ink"
            value={draft ?? name}
            spellCheck={false}
            onChange={(event) => setDraft(event.target.value)}
            onBlur={() => void rename()}
            onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
          />
        </label>
        <Button tone="danger" onClick={() => void ask()}>
          <Trash2 size={13} aria-hidden="true" /> Delete
        </Button>
      </div>
      {problem && <p role="alert" className="mt-1 text-[12px] text-vermilion-text">{problem}</p>}
      {users && <Referring going={{ name, ...users }} onDelete={() => remove(users.patch)} onKeep={() => setUsers(undefined)} />}
    </div>
  );
}

/** Who refers to what is to go, and whether they go along. */
function Referring({ going, onDelete, onKeep }: { going: Going; onDelete: () => void; onKeep: () => void }) {
  const { name, places } = going;
  return (
    <div className="mt-2 rounded border border-vermilion bg-vermilion-fill p-2 text-[12px]" role="alertdialog" aria-label={`Delete ${name}?`}>
      <p className="font-semibold">{places.length === 1 ? "One place refers" : `${places.length} places refer`} to {name}:</p>
      <ul className="my-1 max-h-32 overflow-y-auto">
        {places.map((place) => (
          <li key={place}>{place}</li>
        ))}
      </ul>
      <span className="flex gap-2">
        <Button tone="danger" onClick={onDelete}>Delete, and take them along</Button>
        <Button onClick={onKeep}>Keep it</Button>
      </span>
    </div>
  );
}
