/** The inspector of the whole plan, while nothing is selected. */

import type { PlanDocument, Schemas } from "../../../api/client";
import { amount, money, perSecond } from "../../../kit/format";
import { Button, Section } from "../../../kit/parts";
import { Reading } from "../../../kit/reading";
import { PlanSection } from "../../../form/object-section";
import { useCost } from "../../../plan/judging";
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

export function overview({ planKey, asked, document, state, looking, onSelect }: InspectorProps): Described {
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
            <Cost asked={asked} />
          </dl>
        </Section>
        <Section title="Zones">
          <dl>
            {state.zones.map((zone) => (
              <Reading key={zone.name} label={zone.name} tone={zone.lost ? "vermilion" : "ink"} value={zone.lost ? "lost" : perSecond(zone.served_rps)} />
            ))}
          </dl>
        </Section>
        <Flows state={state} />
        <Remarks document={document} remarks={state.remarks} onSelect={onSelect} />
        {looking.mode === "drill" && <DrillReadings drill={looking.drill} />}
        {document.notes && <p className="mt-5 text-[12px] text-ink-soft">{document.notes}</p>}
        <PlanSection planKey={planKey} document={document} />
      </>
    ),
  };
}

/** What a month of the plan costs, and when idle; on hover by what most of it is. */
function Cost({ asked }: Pick<InspectorProps, "asked">) {
  const { data, error } = useCost(asked);
  // Its line is there from the beginning: what stands below does not move away under a pointer.
  if (!data) return <Reading label="Cost of a month" value={error ? "not known" : "…"} />;
  const { parts, month, idle_month: idle, missing } = data;
  if (month === 0 && missing.length > 0) return <Reading label="Cost of a month" value="no prices given" />;
  const most = parts.slice(0, 3).map((one) => `${one.about} (${one.kind}) ${money(one.month)}`);
  const lacks = missing.length > 0 ? ` No price is given for: ${missing.map((one) => one.replaceAll("_", " ")).join(", ")}.` : "";
  return <Reading label="Cost of a month" value={money(month)} why={`When idle ${money(idle)}; an hour ${money(data.hour)}. Most of it: ${most.join("; ")}.${lacks}`} />;
}

/** From whom to whom requests go, as a table: what the ribbons of the board show. */
function Flows({ state }: Pick<InspectorProps, "state">) {
  if (state.ribbons.length === 0) return null;
  const said = (part: string) => part.replace(/^(\w+):/, "$1 ").replace("/", " ");
  return (
    <details className="mt-4">
      <summary className="min-h-6 cursor-pointer font-medium text-north">Flows as a table</summary>
      <table className="w-full text-left text-[12px]">
        <thead className="text-ink-soft">
          <tr>
            {["from", "to", "requests/s", "failing"].map((one) => (
              <th key={one} scope="col" className="pr-2 font-normal">
                {one}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {state.ribbons.map((one) => (
            <tr key={`${one.source} ${one.to}`} className="border-t border-dotted border-line align-baseline">
              <td className="pr-2 [overflow-wrap:anywhere]">{said(one.source)}</td>
              <td className="pr-2 [overflow-wrap:anywhere]">{said(one.to)}</td>
              <td className="pr-2 text-right">{amount(one.rps)}</td>
              <td className={`text-right ${one.failed_rps > 0 ? "text-vermilion-text" : ""}`}>{one.failed_rps > 0 ? amount(one.failed_rps) : ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
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
