/** The inspector of a target. */

import { amount, percent, seconds } from "../../../kit/format";
import { Button, Section } from "../../../kit/parts";
import { Reading } from "../../../kit/reading";
import { adding, removing, useEdit } from "../../../plan/edit";
import { halves, partOf } from "../../../plan/selection";
import { provenWords } from "../../../board/berth";
import { Addresses, Rates, Settings, when, loadTone, type Described, type InspectorProps } from "./shared";
import { Consequence } from "./probe";

export function describeBerth(props: InspectorProps, name: string): Described {
  const { document, state, looking } = props;
  const [group, target] = halves(name);
  const berth = state.berths.find((one) => one.group === group && one.target === target);
  const settings = document.target_groups.find((one) => one.name === group);
  if (!berth) return { kind: "target", title: target, content: <p className="text-ink-soft">It is not in {group} any more.</p> };
  const { wrong } = berth;
  return {
    kind: "target",
    title: target,
    subtitle: `of ${group}, in ${berth.zone}`,
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Reading label="Truth" tone={berth.truth === "answers" ? "moss" : "vermilion"} value={berth.truth} />
            <Reading
              label="Belief"
              tone={berth.unproven ? "ochre" : wrong ? "vermilion" : "ink"}
              value={berth.belief === "unknown" ? "no living front" : `${berth.unproven ? "not yet proven" : berth.belief} · ${berth.believed_in} of ${berth.believed_of} fronts`}
            />
            {berth.unproven && (
              <Reading
                label="In use"
                tone="ochre"
                value={provenWords(berth, looking)}
                why="It answers, and has yet to pass as many probes in a row as its group's probe asks for: until then no front sends it anything."
              />
            )}
            <Rates rates={berth} />
            <Reading label="Share of the group" value={percent(berth.share)} />
            <Reading
              label="Utilisation"
              tone={loadTone(berth.utilisation)}
              value={berth.capacity_rps ? `${percent(berth.utilisation)} of ${amount(berth.capacity_rps)}/s` : "no limit known"}
              why="Requests offered to the machine by all its groups, over what it can finish in a second."
            />
            <Reading label="Latency" value={`${amount(berth.latency_ms)} ms`} why="Service time, plus the mean wait of a queue with as many servers as capacity × service time, plus the backlog." />
            <Addresses {...props} of={target} />
            {berth.backlog_s > 0 && <Reading label="Backlog" tone="ochre" value={seconds(berth.backlog_s)} />}
          </dl>
        </Section>
        {settings?.probe && looking.mode === "now" && partOf({ kind: "berth", name })?.instance && (
          <p className="mt-3">
            <Button onClick={() => props.onAsIfAdded({ kind: "berth", name })}>As if added now</Button>
          </p>
        )}
        {settings?.probe && <Consequence {...props} probe={settings.probe} />}
        <MachineSettings {...props} target={target} />
        <TargetPlace {...props} group={group} target={target} />
      </>
    ),
  };
}

/** The settings of the machine behind a berth: its own, or those of the fleet that it belongs to. */
function MachineSettings(props: InspectorProps & { target: string }) {
  const { document, target } = props;
  if (document.instances.some((one) => one.name === target)) return <Settings {...props} kind="instance" name={target} title={`Instance ${target}`} />;
  const fleet = document.fleets.find((one) => target.startsWith(`${one.name}-`) && /^\d+$/.test(target.slice(one.name.length + 1)));
  return fleet ? <Settings {...props} kind="fleet" name={fleet.name} title={`Fleet ${fleet.name}`} /> : null;
}

/** In which groups an instance is a target, to be changed. */
function TargetPlace({ planKey, document, group, target }: InspectorProps & { group: string; target: string }) {
  const { edit } = useEdit(planKey);
  if (!document.instances.some((one) => one.name === target)) return null;
  const member = (targets: { instance?: string | null }[] | undefined) => (targets ?? []).findIndex((one) => one.instance === target);
  return (
    <Section title="Target of">
      {document.target_groups.map((one, index) => {
        const at = member(one.targets);
        const path = `/target_groups/${index}/targets`;
        return (
          <label key={one.name} className="flex min-h-6 items-center justify-between gap-2">
            <span className={one.name === group ? "font-semibold" : "text-ink-soft"}>{one.name}</span>
            <input
              type="checkbox"
              className="size-6 accent-north"
              checked={at >= 0}
              onChange={() => edit.mutate([at >= 0 ? removing(`${path}/${at}`) : adding(`${path}/-`, { instance: target })])}
            />
          </label>
        );
      })}
    </Section>
  );
}
