/** What the fields of a form share: the plan, how edits are sent, and what was refused. */

import { createContext, useContext, useState, type KeyboardEvent, type ReactNode } from "react";

import type { PlanDocument } from "../api/client";
import { type Operation } from "../plan/edit";
import { type FieldInfo, type Schema } from "./schema";

export interface FormContext {
  root: Schema;
  document: PlanDocument;
  send: (patch: Operation[]) => void;
  error: Error | null;
  /** The place of the last edit that was refused. */
  refused: string | undefined;
  /** The second under the cursor, where there is one: what is new comes then. */
  at?: number | undefined;
}

/** How fields within fields are drawn: the form's own components, handed down so that no field has to know them all. */
export interface Drawing {
  Fields: (props: FieldsProps) => ReactNode;
  FieldValue: (props: ValueProps) => ReactNode;
}

export interface FieldsProps {
  schema: Schema;
  value: Record<string, unknown>;
  path: string;
  leaveOut?: string[];
}

export const Context = createContext<(FormContext & Drawing) | undefined>(undefined);

export function useForm(): FormContext & Drawing {
  const found = useContext(Context);
  if (!found) throw new Error("a field stands outside a form");
  return found;
}

export interface ValueProps {
  id: string;
  name: string;
  /** How the field is called for those who do not see its label. */
  spoken?: string;
  info: FieldInfo;
  /** In which unit it is given. */
  unit?: string;
  value: unknown;
  path: string;
}

/** How boxes to write in look. */
export const BOX = "min-h-6 w-full min-w-0 rounded border border-line-strong bg-paper px-1.5 text-ink hover:border-ink";

/** Text as it is typed; it is sent when the field is left, or Enter is pressed, and taken back with Escape. */
export function useDraft(shown: string, commit: (text: string) => void) {
  const [draft, setDraft] = useState<string>();
  const leave = () => {
    if (draft !== undefined && draft !== shown) commit(draft);
    setDraft(undefined);
  };
  return {
    value: draft ?? shown,
    onChange: (event: { target: { value: string } }) => setDraft(event.target.value),
    onBlur: leave,
    onKeyDown: (event: KeyboardEvent<HTMLElement>) => {
      if (event.key === "Enter") leave();
      if (event.key !== "Escape") return;
      event.stopPropagation();
      // What has been typed is taken back first; then the field is left.
      if (draft === undefined) event.currentTarget.blur();
      else setDraft(undefined);
    },
  };
}
