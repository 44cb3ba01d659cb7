/** What a review finds of what is selected, with remedies at hand. */

import { Button, Section } from "../../../kit/parts";
import { useEdit, type Operation } from "../../../plan/edit";
import { findingsOf, type Finding } from "../../../plan/judging";
import type { Selection } from "../../../plan/selection";
import { SeverityMark } from "../../../plan/severity";
import type { InspectorProps } from "./shared";
import { Link } from "../../../plan/route";

export function FindingsHere({ planKey, document, findings, selection }: Pick<InspectorProps, "planKey" | "document" | "findings"> & { selection: Selection }) {
  const mine = findingsOf(document, findings, selection);
  if (mine.length === 0) return null;
  return (
    <Section title="Findings">
      <ul className="space-y-2" data-testid="findings-here">
        {mine.map((one) => <Here key={one.code + one.message} planKey={planKey} finding={one} />)}
      </ul>
      <Link to="/plans/:key/findings" params={{ key: planKey }} search={{}} className="mt-1.5 inline-block min-h-6 text-[12px] text-north hover:underline">
        all findings
      </Link>
    </Section>
  );
}

function Here({ planKey, finding }: { planKey: string; finding: Finding }) {
  const { edit } = useEdit(planKey);
  const patch = finding.patch as unknown as Operation[];
  return (
    <li className="grid grid-cols-[16px_minmax(0,1fr)]">
      <span className="pt-0.5"><SeverityMark severity={finding.severity} /></span>
      <span className="[overflow-wrap:anywhere]">
        {finding.message}{" "}
        {patch.length > 0 ? <Button className="text-[12px]" disabled={edit.isPending} onClick={() => edit.mutate(patch)}>{finding.remedy}</Button> : <span className="text-ink-soft">– {finding.remedy}</span>}
        {edit.error && <span className="block text-vermilion-text" role="alert">{edit.error.message}</span>}
      </span>
    </li>
  );
}
