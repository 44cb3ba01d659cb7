/** What the plan still lacks, the next thing to do first, with a way to it. */
import { ArrowRight } from "lucide-react";
import type { PlanDocument, Schemas } from "../../api/client";
import { Button } from "../../kit/parts";
import type { Selection } from "../../plan/selection";
import { objectAt } from "../../plan/trouble";
import { isAddKind, wordsOf, type AddKind } from "./adding/kinds";

interface NextStepsProps {
  steps: Schemas["NextStepAnswer"][];
  document: PlanDocument;
  onAdd: (kind: AddKind) => void;
  onSelect: (selection: Selection) => void;
}

export function NextSteps({ steps, document, onAdd, onSelect }: NextStepsProps) {
  const [first, ...others] = steps;
  if (!first) return null;
  return (
    <section className="flex min-h-9 shrink-0 items-center gap-2.5 border-b border-line bg-foot px-3 py-1" aria-label="What comes next">
      <ArrowRight size={15} className="shrink-0" aria-hidden="true" />
      <p className="shrink-0">
        <b className="font-semibold">Next:</b> {first.words}
      </p>
      <Way step={first} document={document} onAdd={onAdd} onSelect={onSelect} />
      {others.length > 0 && <p className="min-w-0 truncate text-[12px] text-ink-soft">then: {others.map((one) => one.words.replace(/:.*/, "")).join(", ")}</p>}
    </section>
  );
}

function Way({ step, document, onAdd, onSelect }: Omit<NextStepsProps, "steps"> & { step: Schemas["NextStepAnswer"] }) {
  const kind = step.add === "target_group" ? "group" : (step.add ?? undefined);
  const object = step.where ? objectAt(document, step.where) : undefined;
  if (isAddKind(kind)) {
    return (
      <Button className="shrink-0" onClick={() => onAdd(kind)}>
        Add a {wordsOf(kind)}
      </Button>
    );
  }
  return object ? (
    <Button className="shrink-0" onClick={() => onSelect(object)}>
      open {object.name}
    </Button>
  ) : null;
}
