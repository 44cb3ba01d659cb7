/** The inspector of a target group. */

import type { Schemas } from "../../../api/client";
import { percent, perSecond } from "../../../kit/format";
import { Button, Section } from "../../../kit/parts";
import { Reading } from "../../../kit/reading";
import { TargetPicker } from "../../../form/target-picker";
import { useEdit } from "../../../plan/edit";
import { placeOf } from "../../../plan/names";
import { usedIn } from "../../../board/labels";
import { Rates, Settings, when, loadTone, type Described, type InspectorProps } from "./shared";
import { ProbeSection } from "./probe";

export function describeGroup(props: InspectorProps, name: string): Described {
  const { document, state, looking, losses } = props;
  const group = document.target_groups.find((one) => one.name === name);
  const rates = state.groups.find((one) => one.name === name);
  return {
    kind: "target group",
    title: name,
    subtitle: usedIn(document, name),
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Rates rates={rates} />
            <Reading
              label="Believed in use"
              value={`${rates?.in_use ?? 0} of ${rates?.targets ?? 0}${rates && rates.unnoticed > 0 ? ` · ${rates.unnoticed} wrongly` : ""}`}
              tone={rates && rates.unnoticed > 0 ? "vermilion" : "ink"}
            />
            {rates?.busiest && rates.peak_utilisation > 0 && (
              <Reading label="Busiest" tone={loadTone(rates.peak_utilisation)} value={`${rates.busiest} · ${percent(rates.peak_utilisation)}`} />
            )}
            {rates?.room && <Room room={rates.room} />}
            {!props.onLosses &&
              state.zones
                .filter((zone) => state.cells.some((cell) => cell.group === name && cell.zone === zone.name))
                .map((zone) => <Without key={zone.name} zone={zone.name} name={name} losses={losses} />)}
          </dl>
          {props.onLosses && <Button onClick={props.onLosses}>Work out what each zone’s loss leaves</Button>}
        </Section>
        <ProbeSection {...props} probe={group?.probe ?? undefined} />
        <Targets {...props} name={name} />
        <Settings {...props} kind="group" name={name} />
      </>
    ),
  };
}

/** What the loss of a zone leaves of a group; its line is there before that is known, so that nothing below moves away. */
function Without({ zone, name, losses }: { zone: string; name: string; losses: InspectorProps["losses"] }) {
  const loss = losses?.find((one) => one.zone === zone);
  if (losses && !loss) return null;
  const load = loss?.peak_utilisation[name] ?? 0;
  return (
    <Reading
      label={`Without ${zone}`}
      tone={loadTone(load)}
      value={loss ? `busiest ${percent(load)}` : "…"}
      why="The busiest target of this group when that zone is lost, everybody has noticed, and nothing changes any more."
    />
  );
}

/** How far it is filled, what goes on from it, and from what load on. */
function Room({ room }: { room: Schemas["RoomState"] }) {
  const { limit_rps: limit, taken_rps: taken, spills_rps: spills, spills_at: at } = room;
  const to = room.to.length > 0 ? `to ${room.to.join(", ")}` : "by weight, beyond the limit";
  return (
    <>
      <Reading label="Filled" tone={spills > 0 ? "ochre" : "ink"} value={`${perSecond(taken)} of ${perSecond(limit)}`} why="What it takes of what is asked at first, up to the limit that its tier sets: a utilisation, or a rate at each target in use." />
      <Reading label="Goes on from it" value={spills > 0.05 ? `${perSecond(spills)} ${to}` : "nothing"} why={at === null ? "However much is asked, nothing goes on from it." : `Something goes on, ${to}, from ${Math.round(at * 1000) / 1000} times today’s load on.`} />
    </>
  );
}

/** Which machines are targets, chosen from all there are. */
function Targets({ planKey, document, name }: InspectorProps & { name: string }) {
  const { edit } = useEdit(planKey);
  const path = placeOf(document, "group", name);
  if (path === undefined) return null;
  return (
    <Section title="Targets among the machines">
      <TargetPicker document={document} path={path} send={(patch) => edit.mutate(patch)} />
    </Section>
  );
}
