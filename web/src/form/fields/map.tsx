/** Values by name, as the weights of groups. */

import { Trash2 } from "lucide-react";
import { IconButton } from "../../kit/parts";
import { adding, pointerPart, removing, setting } from "../../plan/edit";
import { namesFor } from "../../plan/names";
import { freshEntry, label, type Field } from "../schema";
import { BOX, useDraft, useForm, type ValueProps } from "../context";

export function MapField({ name, value, path, info }: ValueProps) {
  const field = info.field as Extract<Field, { kind: "map" }>;
  const { send, document, FieldValue } = useForm();
  const entries = Object.entries((value ?? {}) as Record<string, unknown>);
  const whole = entries.reduce((sum, [, item]) => sum + (typeof item === "number" ? item : 0), 0);
  const shares = field.keys === "target_group" && whole > 0;
  const left = field.keys ? namesFor(document, field.keys).filter((name) => !entries.some(([key]) => key === name)) : [];
  const fresh = () => (field.of.kind === "list" ? ["1"] : freshEntry(field.of));
  // Where nothing stands yet, not even a table without entries, an entry comes with its table.
  const add = (key: string) => send([value ? adding(`${path}/${pointerPart(key)}`, fresh()) : setting(path, { [key]: fresh() })]);
  const remove = (key: string) => send([info.nullable && entries.length === 1 ? setting(path, null) : removing(`${path}/${pointerPart(key)}`)]);
  const words = `add to ${label(name, undefined).toLowerCase()}`;
  const freeKey = useDraft("", (text) => text && add(text));
  return (
    <div className="space-y-px">
      {entries.map(([key, item]) => (
        <div key={key} className="grid grid-cols-[1fr_112px_24px] items-center gap-x-1">
          <span className="truncate text-ink-soft" title={key}>
            {key}
            {shares && <b className="ml-1 font-semibold text-north">{Math.round((Number(item) / whole) * 100)} %</b>}
          </span>
          <FieldValue id={`${path}/${key}`} name="" spoken={key} info={{ field: field.of, nullable: field.of.kind === "reference", schema: field.schema }} value={item} path={`${path}/${pointerPart(key)}`} />
          <IconButton quiet label={`Remove ${key}`} onClick={() => remove(key)}>
            <Trash2 size={12} />
          </IconButton>
        </div>
      ))}
      {field.keys ? (
        left.length > 0 && (
          <select aria-label={words} className={`${BOX} w-auto text-[12px] text-north`} value="" onChange={(event) => add(event.target.value)}>
            <option value="">+ {words}</option>
            {left.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        )
      ) : (
        <input aria-label={words} placeholder={`+ ${words}`} className={`${BOX} text-[12px]`} {...freeKey} />
      )}
    </div>
  );
}
