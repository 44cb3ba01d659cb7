/** What losses come to in a year, and how often parts are taken to fail. */
import { useState } from "react";

import type { PlanDocument, Schemas } from "../../api/client";
import { amount, percent } from "../../kit/format";
import { adding, useEdit } from "../../plan/edit";

const MOST_PARTS = 7;

export function Year({ planKey, document, year }: { planKey: string; document: PlanDocument; year: Schemas["YearAnswer"] }) {
  const kinds = [...new Map(year.by_part.map((one) => [one.kind, one])).values()];
  return (
    <section className="mt-6" aria-label="A year">
      <h2 className="border-b border-line pb-1 font-semibold">A year</h2>
      <p className="mt-1">
        <b className="text-lg font-semibold tabular-nums" data-testid="availability">{available(year.availability)}</b> of all requests are served; {amount(year.failed_requests)} fail.
      </p>
      <ul className="mt-2 space-y-1 text-[12px]">
        {year.by_part.slice(0, MOST_PARTS).map((one) => (
          <li key={one.words} className="flex justify-between gap-3">
            <span className="[overflow-wrap:anywhere]">{one.words}{one.assumed ? " *" : ""}</span>
            <span className="shrink-0 tabular-nums">{percent(year.failed_requests > 0 ? one.failed_requests / year.failed_requests : 0)}</span>
          </li>
        ))}
      </ul>
      <h3 className="mt-4 text-[13px] font-semibold">How often parts fail</h3>
      <p className="text-[12px] text-ink-soft">* assumed, until the plan says it.</p>
      <table className="mt-1 w-full text-left text-[12px]">
        <thead className="text-[11px] text-ink-soft">
          <tr>{["kind", "a year", "back after s"].map((one) => <th key={one} scope="col" className="font-normal">{one}</th>)}</tr>
        </thead>
        <tbody>
          {kinds.map((one) => (
            <tr key={one.kind} className="border-t border-dotted border-line">
              <th scope="row" className="font-normal">{one.kind.replaceAll("_", " ")}{one.assumed ? " *" : ""}</th>
              {(["per_year", "repair_s"] as const).map((field) => (
                <td key={field}><Given planKey={planKey} document={document} part={one} field={field} /></td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

interface GivenProps {
  planKey: string;
  document: PlanDocument;
  part: Schemas["YearPart"];
  field: "per_year" | "repair_s";
}

/** One number, edited in place: from then on the plan says it. */
function Given({ planKey, document, part, field }: GivenProps) {
  const { edit } = useEdit(planKey);
  const [text, setText] = useState<string>();
  const send = () => {
    const value = Number(text);
    setText(undefined);
    if (text === undefined || text.trim() === "" || !Number.isFinite(value) || value === part[field]) return;
    const known = (document.reliability as Record<string, unknown>)[part.kind];
    edit.mutate([adding(`/reliability/${part.kind}`, { ...(known ?? { per_year: part.per_year, repair_s: part.repair_s }), [field]: value })]);
  };
  return (
    <input
      aria-label={`${field === "per_year" ? "Failures a year" : "Seconds until it is back"} of a ${part.kind.replaceAll("_", " ")}`}
      aria-invalid={edit.isError || undefined}
      title={edit.error?.message}
      inputMode="decimal"
      className="min-h-6 w-20 rounded border border-transparent bg-transparent px-1 tabular-nums hover:border-line-strong aria-invalid:border-vermilion"
      value={text ?? String(part[field])}
      onChange={(event) => setText(event.target.value)}
      onBlur={send}
      onKeyDown={(event) => {
        if (event.key === "Enter") event.currentTarget.blur();
        if (event.key === "Escape") setText(undefined);
      }}
    />
  );
}

/** With as many nines as there are, and one digit more. */
function available(share: number): string {
  const lost = 1 - share;
  const digits = lost <= 0 ? 2 : Math.min(Math.max(Math.ceil(-Math.log10(lost)) - 1, 1), 6);
  return `${(Math.floor(share * 10 ** (digits + 2)) / 10 ** digits).toFixed(digits)} %`;
}
