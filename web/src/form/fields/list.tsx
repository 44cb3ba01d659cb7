/** A list of things that have fields themselves. */

import { ArrowDown, ArrowUp, Plus, Trash2 } from "lucide-react";
import { IconButton } from "../../kit/parts";
import { adding, removing } from "../../plan/edit";
import { namesFor } from "../../plan/names";
import { fitting } from "../fitting";
import { blankItem, label, type Field } from "../schema";
import { useForm, type ValueProps } from "../context";
import { TextListField } from "./text";

export function ListField({ name, value, path, info }: ValueProps) {
  const field = info.field as Extract<Field, { kind: "list" }>;
  const { send, root, document, at, Fields } = useForm();
  const items: unknown[] = Array.isArray(value) ? value : [];
  const add = () => send([adding(`${path}/-`, fitting(document, `${path}/-`, blankItem(root, field.schema, items, (kind) => namesFor(document, kind)), at))]);
  return (
    <ol className="space-y-1.5">
      {items.map((item, index) => (
        // By its place, not its name: while it is renamed what is typed into its other fields stays.
        <li key={index} className="rounded border border-line bg-paper/60 px-2 py-1">
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
          <Plus size={12} aria-hidden="true" /> add to {label(name, undefined).toLowerCase()}
        </button>
      </li>
    </ol>
  );
}

function itemTitle(item: unknown, index: number): string {
  const named = item as { name?: string; port?: number } | null;
  return `${index + 1}${named?.name ? ` · ${named.name}` : ""}`;
}
