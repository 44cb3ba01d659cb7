import { ProblemError, type PlanDocument } from "../api/client";
import { KINDS, OBJECT_KINDS, objectsOf, type ObjectKind } from "./names";
import { Button } from "../kit/parts";
import type { Selection } from "./selection";

interface TroubleProps {
  error: Error;
  /** What cannot be done, where it is not the plan that stands in the way. */
  title?: string;
  document?: PlanDocument;
  onSelect?: (selection: Selection) => void;
}

/** What stands in the way, with the place of each problem in the plan, and a way to it. */
export function Trouble({ error, title, document, onSelect }: TroubleProps) {
  const problems = error instanceof ProblemError ? error.problems : [];
  return (
    <section className="m-8 max-w-3xl rounded border border-vermilion bg-vermilion-fill p-5" role="alert">
      <h1 className="text-lg font-semibold">{error instanceof ProblemError ? (title ?? error.title) : "Something went wrong"}</h1>
      {problems.length === 0 && <p className="mt-1">{error.message}</p>}
      <ul className="mt-2 space-y-1.5">
        {problems.map((problem) => {
          const object = document && objectAt(document, problem.where);
          return (
            <li key={problem.where + problem.message} className="flex flex-wrap items-baseline gap-2">
              {problem.where && <code className="font-mono text-[12px] text-ink-soft">{problem.where}</code>} {problem.message}
              {object && onSelect && <Button onClick={() => onSelect(object)}>open {object.name}</Button>}
            </li>
          );
        })}
      </ul>
    </section>
  );
}

/** The object in which a place lies. */
export function objectAt(document: PlanDocument, where: string): Selection | undefined {
  const [, list, index] = where.split("/");
  const kind = OBJECT_KINDS.find((one: ObjectKind) => KINDS[one].list === list);
  const object = kind && objectsOf(document, kind)[Number(index)];
  return kind && object ? { kind, name: object.name } : undefined;
}
