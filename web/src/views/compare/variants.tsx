/** The plan and its variants: every drill on each of them, what each costs, and taking one over. */
import { FlaskConical } from "lucide-react";
import { useState, type FormEvent } from "react";

import type { Schemas } from "../../api/client";
import { money } from "../../kit/format";
import { Button, Skeleton } from "../../kit/parts";
import { notify } from "../../kit/notify";
import { useDeciding, useMatrix, useTryVariant } from "../../plan/deciding";
import type { Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { NEITHER, readingWords, shownReading } from "./words";
import { Link, useNavigate } from "../../plan/route";

type Matrix = Schemas["MatrixAnswer"];

export function Variants({ asked }: { asked: Asked }) {
  const matrix = useMatrix(asked);
  const [reading, setReading] = useState("failed");
  return (
    <div data-testid="variants">
      <TryOne planKey={asked.key} />
      {matrix.error && <Trouble error={matrix.error} />}
      {!matrix.error && !matrix.data && <><p role="status" className="mb-2 text-ink-soft">Running every drill on every variant …</p><Skeleton className="h-40" /></>}
      {matrix.data && <Table matrix={matrix.data} planKey={asked.key} reading={reading} onReading={setReading} />}
    </div>
  );
}

/** Another variant, from the plan as it is now. */
function TryOne({ planKey }: { planKey: string }) {
  const [name, setName] = useState("");
  const trying = useTryVariant(planKey);
  const navigate = useNavigate();
  const send = (event: FormEvent) => {
    event.preventDefault();
    trying.mutate(name, {
      onSuccess: (made) => {
        setName("");
        notify(`This is ${made.variant ?? made.title}. Whatever you change here, the plan stays as it is.`, { tone: "success" });
        navigate({ to: "/plans/:key/board", params: { key: made.key }, search: {} });
      },
    });
  };
  return (
    <form className="mb-5 flex flex-wrap items-center gap-2" onSubmit={send}>
      <Button type="submit" tone="main" disabled={trying.isPending}><FlaskConical size={13} aria-hidden="true" /> Try a variant</Button>
      <input aria-label="Name of the variant" placeholder="named, if you like" maxLength={200} className="min-h-7 w-56 rounded border border-line-strong bg-panel px-2" value={name} onChange={(event) => setName(event.target.value)} />
      <span className="text-ink-soft">It begins as the plan is now; the plan stays as it is.</span>
    </form>
  );
}

function Table({ matrix, planKey, reading, onReading }: { matrix: Matrix; planKey: string; reading: string; onReading: (reading: string) => void }) {
  const { columns, rows } = matrix;
  const readings = Object.keys(rows.flatMap((row) => row.cells).find((cell) => cell !== null)?.readings ?? {});
  return (
    <div className="relative max-w-full overflow-x-auto" tabIndex={0} role="group" aria-label="Drills and variants">
      <table className="min-w-[36rem] text-left tabular-nums" data-testid="matrix">
        <thead>
          <tr className="align-bottom">
            <th scope="col" className="pr-6 pb-1 font-normal">
              <select aria-label="Reading" className="min-h-7 rounded border border-line-strong bg-panel px-2" value={reading} onChange={(event) => onReading(event.target.value)}>
                {readings.map((one) => <option key={one} value={one}>{readingWords(one)}</option>)}
              </select>
            </th>
            {columns.map((column) => <Head key={column.key} column={column} planKey={planKey} />)}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => <DrillRow key={row.drill} row={row} reading={reading} />)}
          <tr className="border-t border-line">
            <th scope="row" className="py-1 pr-6 font-normal text-ink-soft">cost of a month</th>
            {columns.map((one) => <td key={one.key} className="pr-6 text-right">{money(one.cost_month)}</td>)}
          </tr>
          <tr className="border-t border-dotted border-line">
            <th scope="row" className="py-1 pr-6 font-normal text-ink-soft">findings that stop traffic</th>
            {columns.map((one) => <td key={one.key} className={`pr-6 text-right ${one.stops > 0 ? "font-semibold text-vermilion-text" : ""}`}>{one.stops || "none"}</td>)}
          </tr>
        </tbody>
      </table>
      {columns.length === 1 && <p className="mt-3 text-ink-soft">There is no variant yet: try one, change it, and come back.</p>}
    </div>
  );
}

function Head({ column, planKey }: { column: Schemas["Column"]; planKey: string }) {
  const { takeOver } = useDeciding(planKey);
  const here = column.key === planKey;
  return (
    <th scope="col" className="max-w-56 pr-6 pb-1 text-right font-normal">
      <Link to="/plans/:key/board" params={{ key: column.key }} search={{}} className="font-semibold hover:underline">{column.name}</Link>
      <span className="block text-[12px] text-ink-soft">revision {column.revision}{here ? ", this one" : ""}</span>
      {!here && (
        <span className="mt-1 flex justify-end gap-1.5">
          <Link to="/plans/:key/compare" params={{ key: planKey }} search={{ beside: column.key }} className="flex min-h-6 items-center text-[12px] text-north hover:underline" aria-label={`Compare with ${column.name}`}>compare</Link>
          <Button className="text-[12px]" disabled={takeOver.isPending} aria-label={`Take over ${column.name}`} onClick={() => takeOver.mutate(column.key)}>Take over</Button>
        </span>
      )}
    </th>
  );
}

/** The least is the best, of most readings; it is told by weight and a mark. */
function DrillRow({ row, reading }: { row: Schemas["MatrixRow"]; reading: string }) {
  const values = row.cells.map((cell) => cell?.readings[reading]);
  const known = values.filter((one) => one !== undefined);
  const best = NEITHER.has(reading) || new Set(known).size < 2 ? undefined : Math.min(...known);
  return (
    <tr className="border-t border-dotted border-line">
      <th scope="row" className="py-1 pr-6 font-medium">{row.drill}</th>
      {row.cells.map((cell, place) => (
        <td key={place} className={`pr-6 text-right ${values[place] === best && best !== undefined ? "font-semibold text-moss" : ""}`}>
          {cell ? <>{values[place] === best && best !== undefined && <span aria-label="least">▾ </span>}{shownReading(reading, values[place] ?? null)} <span className={`ml-1 text-[11px] font-normal ${cell.held ? "text-ink-soft" : "text-vermilion-text"}`}>{cell.held ? "held" : "not held"}</span></> : <span className="text-ink-soft">–</span>}
        </td>
      ))}
    </tr>
  );
}
