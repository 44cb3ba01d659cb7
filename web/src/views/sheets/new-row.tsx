/** A row that is being added: its cells are filled in place, and it stands in the sheet once they make sense. */
import { Check, X } from "lucide-react";
import { useRef, useState, type FormEvent } from "react";
import type { PlanDocument } from "../../api/client";
import type { Schema } from "../../form/schema";
import { IconButton } from "../../kit/parts";
import { problemAt, useEdit } from "../../plan/edit";
import { namesFor } from "../../plan/names";
import { useSchema } from "../../plan/queries";
import { headOf } from "./heads";
import type { Column, Sheet } from "./sheet";

interface NewRowProps {
  planKey: string;
  sheet: Sheet;
  document: PlanDocument;
  onDone: () => void;
}

export function NewRow({ planKey, sheet, document, onDone }: NewRowProps) {
  const { edit } = useEdit(planKey);
  const schema = useSchema().data as Schema | undefined;
  const [cells, setCells] = useState<Record<string, string>>({});
  const form = useRef<HTMLFormElement>(null);
  const columns = sheet.columns.filter((column) => column.name !== "order" && column.name !== "tier");
  const send = (event: FormEvent) => {
    event.preventDefault();
    edit.mutate(sheet.add(cells, document), {
      onSuccess: () => {
        setCells({});
        form.current?.querySelector("input")?.focus();
      },
    });
  };
  return (
    <form ref={form} className="shrink-0 border-t border-line-strong bg-foot px-3 py-2" aria-label={`A new row of ${sheet.title.toLowerCase()}`} onSubmit={send} onKeyDown={(event) => event.key === "Escape" && onDone()}>
      {edit.isError && (
        <p role="alert" className="mb-1 text-vermilion-text">
          {problemAt(edit.error, "")}
        </p>
      )}
      <WhatCellsMayBe columns={columns} document={document} prefix="new" />
      <div className="flex flex-wrap items-end gap-2">
        {columns.map((column, place) => (
          <label key={column.name} className="text-[12px] text-ink-soft">
            {headOf(column, schema)}
            <input
              className="mt-0.5 block min-h-7 rounded border border-line-strong bg-panel px-1.5 text-[13px] text-ink"
              style={{ width: Math.min(column.width + 20, 260) }}
              autoFocus={place === 0}
              list={column.refers || column.words ? `new-${column.name}` : undefined}
              value={cells[column.name] ?? ""}
              spellCheck={false}
              autoComplete="off"
              onChange={(event) => setCells({ ...cells, [column.name]: event.target.value })}
            />
          </label>
        ))}
        <span className="flex gap-1 pb-0.5">
          <button type="submit" className="inline-flex min-h-6 items-center gap-1 rounded border border-north bg-north px-2 font-medium text-panel disabled:opacity-50" disabled={edit.isPending}>
            <Check size={13} aria-hidden="true" /> Add
          </button>
          <IconButton label="Close the new row" onClick={onDone}>
            <X size={14} />
          </IconButton>
        </span>
      </div>
    </form>
  );
}

/** What may stand in the cells of columns, offered while one types. */
export function WhatCellsMayBe({ columns, document, prefix }: { columns: Column[]; document: PlanDocument; prefix: string }) {
  return columns
    .filter((column) => column.refers ?? column.words)
    .map((column) => (
      <datalist key={column.name} id={`${prefix}-${column.name}`}>
        {(column.refers ? namesFor(document, column.refers) : (column.words ?? [])).map((one) => (
          <option key={one}>{one}</option>
        ))}
      </datalist>
    ));
}
