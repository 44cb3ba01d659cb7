/** Targets of a group chosen from the plan's machines: by hand, or all whose names fit a pattern. */
import { useState } from "react";
import type { PlanDocument, Schemas } from "../api/client";
import { Button } from "../kit/parts";
import { adding, removing, type Operation } from "../plan/operations";
import { valueAt } from "../plan/names";
import { BOX } from "./context";

type Target = Partial<Schemas["Target"]>;

interface TargetPickerProps {
  document: PlanDocument;
  /** Where the group stands. */
  path: string;
  send: (patch: Operation[]) => void;
}

const MOST_SHOWN = 60;

/** Whether a name fits a pattern in which `*` stands for anything; what is no pattern fits where it is found. */
export function fitsPattern(name: string, pattern: string): boolean {
  const wanted = pattern.trim().toLowerCase();
  if (!wanted.includes("*")) return name.toLowerCase().includes(wanted);
  const pieces = wanted.split("*").map((piece) => piece.replaceAll(/[.+?^${}()|[\]\\]/g, "\\$&"));
  return new RegExp(`^${pieces.join(".*")}$`).test(name.toLowerCase());
}

/** The tags that machines carry, and how many do. */
export function tagsOf(document: PlanDocument): { kind: "tagged"; name: string; says: string }[] {
  const counts = new Map<string, number>();
  const count = (tags: string[], more: number) => tags.forEach((tag) => counts.set(tag, (counts.get(tag) ?? 0) + more));
  document.instances.forEach((one) => count(one.tags, 1));
  document.fleets.forEach((one) => count(one.instance.tags, one.count));
  return [...counts].map(([name, many]) => ({ kind: "tagged", name, says: `tag of ${many}` }));
}

export function TargetPicker({ document, path, send }: TargetPickerProps) {
  const [pattern, setPattern] = useState("");
  const targets = (valueAt(document, `${path}/targets`) ?? []) as Target[];
  const machines = [...tagsOf(document), ...document.fleets.map(({ name, count }) => ({ kind: "fleet" as const, name, says: `${count} machines` })), ...document.instances.map(({ name, zone }) => ({ kind: "instance" as const, name, says: zone }))];
  const placeOf = (one: { kind: "fleet" | "instance" | "tagged"; name: string }) => targets.findIndex((target) => target[one.kind] === one.name);
  const fitting = machines.filter((one) => fitsPattern(one.name, pattern));
  const lacking = fitting.filter((one) => placeOf(one) < 0);
  const add = (some: typeof machines) => send(some.map((one) => adding(`${path}/targets/-`, { [one.kind]: one.name })));
  const toggle = (one: (typeof machines)[number]) => (placeOf(one) < 0 ? add([one]) : send([removing(`${path}/targets/${placeOf(one)}`)]));
  if (machines.length === 0) return <p className="text-ink-soft">No machines yet: add instances or a fleet first.</p>;
  return (
    <div data-testid="target-picker">
      <span className="flex items-center gap-1.5">
        <input aria-label="Names that fit" className={BOX} placeholder="Find, or a pattern: tiles-*" value={pattern} spellCheck={false} autoComplete="off" onChange={(event) => setPattern(event.target.value)} />
        <Button className="shrink-0 text-[12px] disabled:opacity-50" disabled={lacking.length === 0} onClick={() => add(lacking)}>
          Take {lacking.length === 1 ? "it" : `all ${lacking.length}`}
        </Button>
      </span>
      <ul className="mt-1 max-h-44 overflow-y-auto">
        {fitting.slice(0, MOST_SHOWN).map((one) => (
          <li key={`${one.kind}:${one.name}`}>
            <label className="flex min-h-6 items-center gap-2 text-[12px]">
              <input type="checkbox" className="size-6 scale-75 accent-north" checked={placeOf(one) >= 0} onChange={() => toggle(one)} />
              <span className="min-w-0 flex-1 truncate">{one.name}</span>
              <span className="shrink-0 text-ink-soft">{one.says}</span>
            </label>
          </li>
        ))}
      </ul>
      {fitting.length > MOST_SHOWN && <p className="text-[12px] text-ink-soft">and {fitting.length - MOST_SHOWN} more that fit</p>}
    </div>
  );
}
