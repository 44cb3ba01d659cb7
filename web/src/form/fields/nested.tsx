/** Fields within a field. */

import { Plus } from "lucide-react";
import { setting } from "../../plan/edit";
import { namesFor } from "../../plan/names";
import { fitting } from "../fitting";
import { blankObject, label, type Field } from "../schema";
import { useForm, type ValueProps } from "../context";

export function NestedField({ name, value, path, info }: ValueProps) {
  const field = info.field as Extract<Field, { kind: "object" }>;
  const { send, root, document, Fields } = useForm();
  if (value === null || value === undefined) {
    return (
      <button type="button" className="flex min-h-6 items-center gap-1 text-[12px] font-medium text-north hover:underline" onClick={() => send([setting(path, fitting(document, path, blankObject(root, field.schema, (kind) => namesFor(document, kind))))])}>
        <Plus size={12} aria-hidden="true" /> add {label(name, undefined).toLowerCase()}
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
