/** Fields for text and numbers, one or many. */

import { written } from "../../kit/format";
import { listText, wordsIn } from "../../kit/rows";
import { setting } from "../../plan/edit";
import type { Field } from "../schema";
import { BOX, useDraft, useForm, type ValueProps } from "../context";

/** What was typed, as the value that it means: a number where one may stand, nothing where it may be empty. */
export function parsed(text: string, field: Field, nullable: boolean): unknown {
  const trimmed = text.trim();
  if (trimmed === "" && nullable) return null;
  const percent = /^([\d.,]+)\s*%$/.exec(trimmed)?.[1];
  // Shares may be typed as people say them: 5 % is 0.05.
  if (percent !== undefined && field.kind === "number" && field.most === 1) return Number(percent.replace(",", ".")) / 100;
  const number = Number(trimmed.replace(",", "."));
  if (field.kind === "number") return trimmed !== "" && Number.isFinite(number) ? number : trimmed;
  return /^\d+$/.test(trimmed) && field.kind === "text" && !nullable ? maybeNumber(trimmed) : trimmed;
}

function maybeNumber(text: string): unknown {
  return text.length < 6 ? Number(text) : text;
}

export function TextField({ id, name, spoken, info, unit, value, path }: ValueProps) {
  const { send } = useForm();
  const shown = written(value);
  const plainText = info.field.kind === "text" && typeof value === "string" && name !== "port";
  const draft = useDraft(shown, (text) => send([setting(path, plainText ? (text === "" && info.nullable ? null : text) : parsed(text, info.field, info.nullable))]));
  return (
    <span className="flex items-center gap-1">
      <input id={id} aria-label={spoken} className={`${BOX} ${info.field.kind === "number" ? "text-right font-mono text-[12px]" : ""}`} placeholder={info.nullable ? "none" : ""} inputMode={info.field.kind === "number" ? "decimal" : "text"} autoComplete="off" spellCheck={false} {...draft} />
      {unit && <span className="min-w-5 shrink-0 text-[11px] text-ink-soft">{unit}</span>}
    </span>
  );
}

export function TextListField({ id, spoken, info, value, path }: ValueProps) {
  const { send } = useForm();
  const items = Array.isArray(value) ? value : [];
  const numbers = info.field.kind === "list" && info.field.of.kind === "number";
  const draft = useDraft(listText(items), (text) => {
    const words = wordsIn(text);
    send([setting(path, words.length === 0 && info.nullable ? null : numbers ? words.map(Number) : words)]);
  });
  return <input id={id} aria-label={spoken} className={BOX} placeholder="none" autoComplete="off" spellCheck={false} {...draft} />;
}
