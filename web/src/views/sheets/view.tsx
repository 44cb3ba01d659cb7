import { useVirtualizer } from "@tanstack/react-virtual";
import { ArrowDown, ArrowUp, ClipboardPaste, Download, Plus, Trash2 } from "lucide-react";
import { Dialog } from "radix-ui";
import { useMemo, useRef, useState, type KeyboardEvent } from "react";

import { Trouble } from "../../plan/trouble";
import type { PlanDocument } from "../../api/client";
import { namesFor } from "../../plan/names";
import { label, propertyNamed, type Schema } from "../../form/schema";
import { Button } from "../../kit/parts";
import { problemAt, useEdit } from "../../plan/edit";
import { usePlan, useSchema } from "../../plan/queries";
import { NewRow, WhatCellsMayBe } from "./new-row";
import { headOf, widthOf } from "./heads";
import { pastedChanges, removingRows, type Column, type Row, type Sheet } from "./sheet";
import { SHEETS } from "./sheets";
import { TakeIn } from "./take-in";
import { readRows, underColumns, unknownColumns, writeCsv } from "../../kit/rows";
import { Link, useRoute } from "../../plan/route";

const ROW_HEIGHT = 28;

/** Many of a thing: a dense grid with inline editing, filter, sort, paste and CSV. */
export function SheetsView() {
  const { params: { key, sheet: name } } = useRoute("/plans/:key/sheets/:sheet");
  const plan = usePlan(key);
  const sheet = (SHEETS as Record<string, Sheet>)[name] ?? SHEETS.machines;
  if (plan.error) return <Trouble error={plan.error} />;
  const document = plan.data?.document;
  return (
    <div className="flex min-h-0 flex-1 max-md:flex-col">
      <SheetsNav planKey={key} document={document} />
      <main id="main" className="flex min-h-0 min-w-0 flex-1 flex-col" aria-label={sheet.title}>
        <h1 className="sr-only">Sheet: {sheet.title}</h1>
        {document ? <Grid key={name} planKey={key} name={name} sheet={sheet} document={document} /> : <p className="p-6 text-ink-soft">Reading the plan …</p>}
      </main>
    </div>
  );
}

/** All sheets, with how many rows each has. */
function SheetsNav({ planKey, document }: { planKey: string; document: PlanDocument | undefined }) {
  const counts = useMemo(() => Object.fromEntries(Object.entries(SHEETS).map(([one, sheet]) => [one, document ? sheet.rows(document).length : 0])), [document]);
  return (
    <nav className="w-44 shrink-0 overflow-y-auto border-r border-line bg-foot py-2 max-md:flex max-md:w-full max-md:overflow-x-auto max-md:border-r-0 max-md:border-b" aria-label="Sheets">
      {Object.entries(SHEETS).map(([one, { title }]) => (
        <Link key={one} tab to="/plans/:key/sheets/:sheet" params={{ key: planKey, sheet: one }} className="mx-2 flex min-h-6 items-baseline justify-between gap-2 rounded px-2 py-0.5 whitespace-nowrap text-ink hover:bg-line/60 [&.active]:bg-ink [&.active]:text-paper">
          {title} <span className="text-[12px] tabular-nums opacity-75">{counts[one]}</span>
        </Link>
      ))}
    </nav>
  );
}

interface GridProps {
  planKey: string;
  name: string;
  sheet: Sheet;
  document: PlanDocument;
}

function Grid({ planKey, name, sheet, document }: GridProps) {
  const { edit } = useEdit(planKey);
  const [filter, setFilter] = useState("");
  const [sort, setSort] = useState<{ column: string; down: boolean }>();
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [refused, setRefused] = useState<{ path: string; words: string }>();
  const [adding, setAdding] = useState(false);
  const schema = useSchema().data as Schema | undefined;
  const all = useMemo(() => sheet.rows(document), [sheet, document]);
  const rows = useMemo(() => arranged(all, filter, sort), [all, filter, sort]);
  const selected = rows.filter((row) => chosen.has(row.path));

  const write = (column: Column, row: Row, text: string) => {
    const targets = chosen.has(row.path) && selected.length > 1 ? selected : [row];
    setRefused({ path: row.path, words: `${label(column.name, propertyNamed(schema, column.name))} of ${nameOf(row)}` });
    edit.mutate(targets.flatMap((one) => column.write(text, one)));
  };
  const remove = () => edit.mutate(removingRows(selected), { onSuccess: () => setChosen(new Set()) });
  return (
    <>
      <div className="flex min-h-10 shrink-0 flex-wrap items-center gap-2 border-b border-line px-3 py-1">
        <input aria-label="Filter" placeholder="Filter rows" className="min-h-6 w-56 rounded border border-line-strong bg-panel px-2" value={filter} onChange={(event) => setFilter(event.target.value)} />
        <span className="text-ink-soft" data-testid="row-count">
          {rows.length === all.length ? `${all.length} rows` : `${rows.length} of ${all.length} rows`}
          {selected.length > 0 && ` · ${selected.length} chosen: an edit in one of them goes to all`}
        </span>
        <span className="ml-auto flex gap-2">
          {selected.length > 0 && (
            <Button tone="danger" onClick={remove}>
              <Trash2 size={13} aria-hidden="true" /> Delete {selected.length}
            </Button>
          )}
          <Button onClick={() => setAdding(true)}>
            <Plus size={13} aria-hidden="true" /> Add row
          </Button>
          <TakeIn planKey={planKey} sheet={name} />
          <PasteDialog planKey={planKey} sheet={sheet} document={document} />
          <Button onClick={() => download(`${planKey}-${name}.csv`, toCsv(sheet, rows))}>
            <Download size={13} aria-hidden="true" /> CSV
          </Button>
        </span>
      </div>
      {edit.isError && (
        <p role="alert" className="border-b border-vermilion bg-vermilion-fill px-3 py-1 text-vermilion-text">
          {refused && <b className="font-semibold">{refused.words}: </b>}
          {problemAt(edit.error, refused?.path ?? "")}
        </p>
      )}
      <Table sheet={sheet} rows={rows} document={document} sort={sort} chosen={chosen} onSort={setSort} onChoose={setChosen} onWrite={write} />
      {adding && <NewRow planKey={planKey} sheet={sheet} document={document} onDone={() => setAdding(false)} />}
    </>
  );
}

function arranged(rows: Row[], filter: string, sort: { column: string; down: boolean } | undefined): Row[] {
  const wanted = filter.toLowerCase().split(/\s+/).filter(Boolean);
  const kept = rows.filter((row) => wanted.every((word) => Object.values(row.cells).some((cell) => cell.toLowerCase().includes(word))));
  if (!sort) return kept;
  const collator = new Intl.Collator("en", { numeric: true });
  const sign = sort.down ? -1 : 1;
  return [...kept].sort((a, b) => sign * collator.compare(a.cells[sort.column] ?? "", b.cells[sort.column] ?? ""));
}

function toCsv(sheet: Sheet, rows: Row[]): string {
  const names = sheet.columns.map((column) => column.name);
  return writeCsv([names, ...rows.map((row) => names.map((one) => row.cells[one] ?? ""))]);
}

function download(name: string, text: string): void {
  const link = window.document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

interface TableProps {
  sheet: Sheet;
  rows: Row[];
  document: PlanDocument;
  sort: { column: string; down: boolean } | undefined;
  chosen: ReadonlySet<string>;
  onSort: (sort: { column: string; down: boolean } | undefined) => void;
  onChoose: (chosen: ReadonlySet<string>) => void;
  onWrite: (column: Column, row: Row, text: string) => void;
}

function Table({ sheet, rows, document, sort, chosen, onSort, onChoose, onWrite }: TableProps) {
  const schema = useSchema().data as Schema | undefined;
  const frame = useRef<HTMLDivElement>(null);
  // eslint-disable-next-line react-hooks/incompatible-library -- the virtualizer's functions are used in this component only
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => frame.current, estimateSize: () => ROW_HEIGHT, overscan: 12 });
  const template = `34px ${sheet.columns.map((column) => `${widthOf(column, headOf(column, schema))}px`).join(" ")}`;
  const toggle = (path: string) => {
    const next = new Set(chosen);
    if (!next.delete(path)) next.add(path);
    onChoose(next);
  };
  const allChosen = rows.length > 0 && rows.every((row) => chosen.has(row.path));
  return (
    <div ref={frame} className="min-h-0 flex-1 overflow-auto" role="table" aria-label={sheet.title} aria-rowcount={rows.length + 1}>
      <div role="row" className="sticky top-0 z-10 grid w-max min-w-full border-b border-line-strong bg-foot" style={{ gridTemplateColumns: template }}>
        <span role="columnheader" className="grid place-items-center">
          <input type="checkbox" className="size-6 scale-75 accent-north" aria-label="Choose all rows" checked={allChosen} onChange={() => onChoose(allChosen ? new Set() : new Set(rows.map((row) => row.path)))} />
        </span>
        {sheet.columns.map((column) => (
          <span key={column.name} role="columnheader" aria-sort={sort?.column === column.name ? (sort.down ? "descending" : "ascending") : "none"}>
            <button type="button" className={`flex min-h-7 w-full items-center gap-1 px-2 font-semibold ${column.number ? "justify-end" : ""}`} onClick={() => onSort(nextSort(sort, column.name))}>
              <span className="truncate" title={headOf(column, schema)}>{headOf(column, schema)}</span>
              {sort?.column === column.name && (sort.down ? <ArrowDown size={12} /> : <ArrowUp size={12} />)}
            </button>
          </span>
        ))}
      </div>
      <div className="relative w-max min-w-full" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => {
          const row = rows[item.index];
          if (!row) return null;
          return (
            <div key={row.path} role="row" aria-rowindex={item.index + 2} className={`absolute right-0 left-0 grid border-b border-line ${chosen.has(row.path) ? "bg-north-fill" : "odd:bg-panel/50"}`} style={{ top: item.start, height: ROW_HEIGHT, gridTemplateColumns: template }}>
              <span role="cell" className="grid place-items-center">
                <input type="checkbox" className="size-6 scale-75 accent-north" aria-label={`Choose row ${item.index + 1}`} checked={chosen.has(row.path)} onChange={() => toggle(row.path)} />
              </span>
              {sheet.columns.map((column) => (
                <CellInput key={column.name} column={column} row={row} document={document} onWrite={onWrite} />
              ))}
            </div>
          );
        })}
      </div>
      <WhatCellsMayBe columns={sheet.columns} document={document} prefix="may-be" />
      {rows.length === 0 && <p className="p-6 text-ink-soft">No rows yet. Paste some from a spreadsheet, or add one.</p>}
    </div>
  );
}

function nextSort(sort: { column: string; down: boolean } | undefined, column: string) {
  if (sort?.column !== column) return { column, down: false };
  return sort.down ? undefined : { column, down: true };
}

function CellInput({ column, row, document, onWrite }: { column: Column; row: Row; document: PlanDocument; onWrite: TableProps["onWrite"] }) {
  const schema = useSchema().data as Schema | undefined;
  const shown = row.cells[column.name] ?? "";
  const [draft, setDraft] = useState<string>();
  const leave = () => {
    if (draft !== undefined && draft !== shown) onWrite(column, row, draft);
    setDraft(undefined);
  };
  if (column.fixed) return <span role="cell" className="truncate px-2 leading-7 font-medium">{shown}</span>;
  const names = column.refers ? namesFor(document, column.refers) : [];
  const dangling = column.refers !== undefined && shown !== "" && !names.includes(shown);
  return (
    <span role="cell" className="min-w-0">
      <input
        className={`h-full w-full min-w-0 bg-transparent px-2 text-ellipsis hover:bg-paper focus:bg-paper ${column.number ? "text-right font-mono text-[12px]" : ""} ${dangling ? "text-vermilion-text" : ""}`}
        aria-label={`${label(column.name, propertyNamed(schema, column.name))} of ${nameOf(row)}`}
        title={shown}
        value={draft ?? shown}
        list={column.refers || column.words ? `may-be-${column.name}` : undefined}
        data-cell={`${row.path} ${column.name}`}
        spellCheck={false}
        autoComplete="off"
        onChange={(event) => setDraft(event.target.value)}
        onBlur={leave}
        onKeyDown={(event) => {
          if (event.key === "Enter") leave();
          if (event.key === "Escape") setDraft(undefined);
          if (event.key === "ArrowDown" || event.key === "ArrowUp") toRow(event, event.key === "ArrowDown" ? 1 : -1);
        }}
      />
    </span>
  );
}

/** Goes to the same column of the row above or below. */
function toRow(event: KeyboardEvent<HTMLInputElement>, by: 1 | -1): void {
  const column = event.currentTarget.dataset["cell"]?.split(" ")[1];
  const rows = [...(event.currentTarget.closest("[role=table]")?.querySelectorAll<HTMLInputElement>("input[data-cell]") ?? [])].filter((one) => one.dataset["cell"]?.split(" ")[1] === column);
  const next = rows[rows.indexOf(event.currentTarget) + by];
  if (!next) return;
  event.preventDefault();
  next.focus();
}

/** Rows from a spreadsheet: what they would change is shown before it is done. */
function PasteDialog({ planKey, sheet, document }: { planKey: string; sheet: Sheet; document: PlanDocument }) {
  const { edit } = useEdit(planKey);
  const [open, setOpen] = useState(false);
  const [pasted, setPasted] = useState("");
  const columns = sheet.columns.map((column) => column.name);
  const unknown = useMemo(
    () => unknownColumns(readRows(pasted), columns),
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the columns are the sheet's
    [pasted, sheet],
  );
  const changes = useMemo(
    () => (open ? pastedChanges(sheet, document, underColumns(readRows(pasted), columns)) : []),
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the columns are the sheet's
    [open, pasted, sheet, document],
  );
  const real = changes.filter((change) => change.kind !== "same");
  const apply = () => edit.mutate(real.flatMap((change) => change.operations), { onSuccess: () => { setOpen(false); setPasted(""); } });
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button>
          <ClipboardPaste size={13} aria-hidden="true" /> Paste rows
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-bar/40" />
        <Dialog.Content className="fixed top-16 left-1/2 z-40 flex max-h-[82vh] w-[min(720px,calc(100vw-16px))] -translate-x-1/2 flex-col rounded border border-line-strong bg-panel p-5 shadow-xl">
          <Dialog.Title className="text-lg font-semibold">Paste rows: {sheet.title.toLowerCase()}</Dialog.Title>
          <Dialog.Description className="mb-2 text-[12px] text-ink-soft">
            From a spreadsheet or a CSV file. With a header row in any order, or in this one: {columns.join(", ")}.
          </Dialog.Description>
          <textarea aria-label="Rows" autoFocus className="h-32 w-full rounded border border-line-strong bg-paper p-2 font-mono text-[12px]" value={pasted} spellCheck={false} onChange={(event) => setPasted(event.target.value)} />
          {unknown.length > 0 && (
            <p role="status" className="mt-2 text-[12px] text-ochre-text">
              {unknown.length === 1 ? "This column is" : "These columns are"} not of this sheet, and left out: {unknown.join(", ")}.
            </p>
          )}
          <ul className="my-3 min-h-12 flex-1 space-y-0.5 overflow-y-auto text-[12px]" data-testid="paste-preview">
            {changes.map((change, index) => (
              <li key={`${change.name}-${String(index)}`} className={change.kind === "same" ? "text-ink-soft" : ""}>
                <b className={`mr-2 inline-block w-16 font-semibold ${change.kind === "added" ? "text-moss" : change.kind === "changed" ? "text-ochre-text" : ""}`}>{change.kind}</b>
                <b className="font-semibold">{change.name}</b> {change.words}
              </li>
            ))}
          </ul>
          {edit.isError && <p role="alert" className="mb-2 text-vermilion-text">{problemAt(edit.error, "")}</p>}
          <span className="flex justify-end gap-2">
            <Dialog.Close asChild>
              <Button>Cancel</Button>
            </Dialog.Close>
            <Button tone="main" disabled={real.length === 0 || edit.isPending} onClick={apply}>
              Take {real.length} {real.length === 1 ? "row" : "rows"}
            </Button>
          </span>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** How a row is called: by its name, or by its owner and what it leads to. */
function nameOf({ cells }: Row): string {
  const [first = ""] = Object.values(cells);
  const last = cells["target"] ?? cells["answer"] ?? cells["name"];
  return [...new Set([first, last])].filter(Boolean).join(" ");
}
