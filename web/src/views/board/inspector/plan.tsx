/** The inspector of the whole plan, while nothing is selected. */

import type { PlanDocument, Schemas } from "../../../api/client";
import { amount, perSecond } from "../../../kit/format";
import { Button, Section } from "../../../kit/parts";
import { Reading } from "../../../kit/reading";
import { PlanSection } from "../../../form/object-section";
import { objectAt } from "../../../plan/trouble";
import { Rates, when, type Described, type InspectorProps } from "./shared";

const CAUSES: Record<string, string> = {
  refused: "refused",
  timed_out: "timed out",
  overloaded: "overloaded",
  none_healthy: "none healthy",
  blocked: "blocked",
  bad_status: "bad status",
  dead_front: "dead front",
  reset: "reset",
};

export function overview({ planKey, document, state, looking, onSelect }: InspectorProps): Described {
  const failing = Object.entries(state.failed_by_cause).filter(([, rate]) => rate > 0);
  return {
    kind: "plan",
    title: document.title || document.name,
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Rates rates={state} />
            {failing.map(([cause, rate]) => (
              <Reading key={cause} label={`  ${CAUSES[cause] ?? cause}`} tone="vermilion" value={perSecond(rate)} />
            ))}
            <Reading label="Mean latency" value={`${amount(state.mean_latency_ms)} ms`} why="Mean over served calls: the client's round trip, the wait in the queue, the backlog and the service itself." />
          </dl>
        </Section>
        <Section title="Zones">
          <dl>
            {state.zones.map((zone) => (
              <Reading key={zone.name} label={zone.name} tone={zone.lost ? "vermilion" : "ink"} value={zone.lost ? "lost" : perSecond(zone.served_rps)} />
            ))}
          </dl>
        </Section>
        <Remarks document={document} remarks={state.remarks} onSelect={onSelect} />
        {looking.mode === "drill" && <DrillReadings drill={looking.drill} />}
        {document.notes && <p className="mt-5 text-[12px] text-ink-soft">{document.notes}</p>}
        <PlanSection planKey={planKey} document={document} />
      </>
    ),
  };
}

function DrillReadings({ drill }: { drill: Schemas["DrillAnswer"] }) {
  return (
    <Section title={`The whole drill${drill.expect.length ? `: held ${drill.expect.filter((one) => one.held).length} of ${drill.expect.length}` : ""}`}>
      <dl>
        <Reading label="Failed requests" value={`${amount(drill.readings.failed)} of ${amount(drill.readings.requests)}`} />
        {drill.expect.map((one) => (
          <Reading
            key={one.reading + one.wanted}
            label={`${one.reading.replaceAll("_", " ")} ${one.wanted}`}
            tone={one.held ? "moss" : "vermilion"}
            value={`${one.held ? "held" : "not held"}: ${Number(one.got.toPrecision(4))}`}
          />
        ))}
      </dl>
    </Section>
  );
}

/** What contradicts itself in the plan, and what it leaves open that these numbers need; with a way to it. */
function Remarks({ document, remarks, onSelect }: { document: PlanDocument; remarks: Schemas["Remark"][]; onSelect: InspectorProps["onSelect"] }) {
  if (remarks.length === 0) return null;
  return (
    <Section title="Problems of the plan">
      <ul className="space-y-1.5">
        {remarks.map((one) => {
          const object = objectAt(document, one.where);
          return (
            <li key={one.where + one.message}>
              {one.message} {object && <Button onClick={() => onSelect(object)}>open {object.name}</Button>}
            </li>
          );
        })}
      </ul>
    </Section>
  );
}
