/** What is being added: its kind, the fields that matter, and what it would be; the board shows it at the same time. */
import { X } from "lucide-react";
import { RadioGroup } from "radix-ui";
import { useEffect, useRef } from "react";
import { ProblemError, type PlanDocument } from "../../../api/client";
import { BOX } from "../../../form/context";
import { ObjectForm } from "../../../form/form";
import { TargetPicker } from "../../../form/target-picker";
import { resolve, type Schema } from "../../../form/schema";
import { Button, IconButton, Section } from "../../../kit/parts";
import { valueAt } from "../../../plan/names";
import { ASKED, OFFERED, wordsOf, type AddKind } from "./kinds";
import type { Draft, Preview } from "./draft";
import { Meaning } from "./meaning";

interface AddPanelProps {
  root: Schema;
  draft: Draft;
  preview: Preview | undefined;
  /** Why it cannot be as it is now, or why it was not added. */
  error: Error | null;
  busy: boolean;
  onKind: (kind: AddKind) => void;
  onAdd: () => void;
  onLeave: () => void;
}

export function AddPanel({ root, draft, preview, error, busy, onKind, onAdd, onLeave }: AddPanelProps) {
  const panel = useRef<HTMLElement>(null);
  useEffect(() => {
    // Opened by a key, or another kind chosen by one: from here the next press of Tab leads to the first field.
    if (document.activeElement === document.body) panel.current?.querySelector<HTMLElement>("[role=radio][data-state=checked]")?.focus();
  }, []);
  const problems = error instanceof ProblemError ? error.problems : [];
  // What is wrong with a field is told there; the rest at the foot.
  const elsewhere = error ? (problems.length > 0 ? problems.filter((one) => !one.where.startsWith(`${draft.path}/`)).map((one) => one.message) : [error.message]) : [];
  const nowhere = draft.kind === "listener" && draft.home === undefined;
  return (
    <aside ref={panel} className="flex h-full flex-col bg-panel" aria-label="Add to the plan" data-testid="add-panel">
      <header className="flex items-center justify-between gap-2 px-4 pt-3 pb-2">
        <h2 className="text-xl leading-tight font-semibold">Add to the plan</h2>
        <IconButton label="Close" onClick={onLeave}>
          <X size={14} />
        </IconButton>
      </header>
      <div className="min-h-0 flex-1 overflow-y-auto px-4 pb-4">
        <RadioGroup.Root className="mb-4 flex flex-wrap gap-1" aria-label="What to add" value={draft.kind} onValueChange={(kind) => onKind(kind as AddKind)}>
          {OFFERED.map((one) => (
            <RadioGroup.Item key={one} value={one} className="min-h-6 rounded border border-line-strong px-1.5 text-[12px] hover:border-ink data-[state=checked]:border-ink data-[state=checked]:bg-ink data-[state=checked]:text-paper">
              {wordsOf(one)}
            </RadioGroup.Item>
          ))}
        </RadioGroup.Root>
        {nowhere ? (
          <p className="text-ink-soft">No balancer yet: a listener needs one to stand on.</p>
        ) : (
          <>
            {draft.kind === "listener" && <Home draft={draft} />}
            <Asked root={root} draft={draft} error={error} refused={problems[0]?.where} />
            {draft.kind === "group" && (
              <Section title="Targets">
                <TargetPicker document={draft.document} path={draft.path} send={draft.change} />
              </Section>
            )}
            <More root={root} draft={draft} error={error} refused={problems[0]?.where} />
            {preview && <Meaning draft={draft} preview={preview} />}
          </>
        )}
      </div>
      <footer className="border-t border-line px-4 py-2.5">
        {elsewhere.map((words) => (
          <p key={words} role="alert" className="mb-1 text-[12px] text-vermilion-text">
            {words}
          </p>
        ))}
        <span className="flex justify-end gap-2">
          <Button onClick={onLeave}>Cancel</Button>
          <Button tone="main" disabled={busy || nowhere} onClick={onAdd}>
            Add
          </Button>
        </span>
      </footer>
    </aside>
  );
}

interface FieldsOfDraft {
  root: Schema;
  draft: Draft;
  error: Error | null;
  refused: string | undefined;
}

/** The fields that matter, of the new object and of its parts. */
function Asked({ root, draft, error, refused }: FieldsOfDraft) {
  return ASKED[draft.kind].map(({ at, definition, title, fields }) => {
    const value = valueAt(draft.document, draft.path + at);
    const schema = resolve(root, { $ref: `#/$defs/${definition}` });
    if (value === undefined || value === null) return null;
    return (
      <Section key={at} title={title ?? ""}>
        <ObjectForm root={root} document={draft.document} schema={schema} value={value as Record<string, unknown>} path={draft.path + at} leaveOut={without(schema, fields)} send={draft.change} error={error} refused={refused} />
      </Section>
    );
  });
}

function without(schema: Schema, fields: string[]): string[] {
  return Object.keys(schema.properties ?? {}).filter((name) => !fields.includes(name));
}

/** Everything else of the new object, folded away: it is as by default. */
function More({ root, draft, error, refused }: FieldsOfDraft) {
  const [own, ...parts] = ASKED[draft.kind];
  if (!own) return null;
  const schema = resolve(root, { $ref: `#/$defs/${own.definition}` });
  const apart = [...own.fields, ...parts.map((part) => part.at.split("/")[1] ?? ""), ...(draft.kind === "group" ? ["targets"] : [])];
  if (without(schema, apart).length === 0) return null;
  return (
    <details className="mt-4">
      <summary className="min-h-6 cursor-pointer text-[12px] font-medium text-north">More settings, as by default</summary>
      <ObjectForm root={root} document={draft.document} schema={schema} value={draft.value} path={draft.path} leaveOut={apart} send={draft.change} error={error} refused={refused} />
    </details>
  );
}

function Home({ draft }: { draft: Draft }) {
  const balancers: PlanDocument["balancers"] = draft.document.balancers;
  return (
    <label className="grid min-h-7 grid-cols-[1fr_132px] items-center gap-x-2 py-px text-ink-soft">
      Balancer
      <select aria-label="Balancer" className={BOX} value={draft.home} onChange={(event) => draft.takeHome(event.target.value)}>
        {balancers.map((one) => (
          <option key={one.name}>{one.name}</option>
        ))}
      </select>
    </label>
  );
}
