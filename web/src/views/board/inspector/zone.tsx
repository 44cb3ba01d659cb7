/** The inspector of a zone. */

import { percent, perSecond } from "../../../kit/format";
import { Section } from "../../../kit/parts";
import { Reading } from "../../../kit/reading";
import { isOutside } from "../../../plan/selection";
import { Rates, Settings, when, loadTone, type Described, type InspectorProps } from "./shared";

export function describeZone(props: InspectorProps, name: string): Described {
  const { state, looking, document } = props;
  const region = document.regions.find((one) => one.zones.includes(name))?.name;
  const zone = state.zones.find((one) => one.name === name);
  const cells = state.cells.filter((cell) => cell.zone === name);
  return {
    kind: "zone",
    title: name,
    subtitle: zone && (isOutside(document.regions, name) ? "what no part of the plan owns: it answers what it is asked" : `in ${zone.region}`),
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Rates rates={zone} />
            <Reading label="From other zones" value={perSecond(zone?.from_elsewhere_rps ?? 0)} why="Requests that a front in another zone sends to targets here: traffic that crosses zones." />
          </dl>
        </Section>
        <Section title="What stands here">
          <dl>
            {cells.map((cell) => (
              <Reading
                key={cell.group}
                label={cell.group}
                tone={cell.unnoticed > 0 ? "vermilion" : "ink"}
                value={`${cell.in_use}/${cell.targets} in use${cell.unnoticed > 0 ? ` · ${cell.unnoticed} not noticed` : ""}`}
              />
            ))}
          </dl>
        </Section>
        {!isOutside(document.regions, name) && <Section title="If it were lost, and settled">
          <dl>
            {Object.entries(props.losses?.find((one) => one.zone === name)?.peak_utilisation ?? {}).map(([group, load]) => (
              <Reading key={group} label={group} tone={loadTone(load)} value={`busiest ${percent(load)}`} />
            ))}
          </dl>
        </Section>}
        {region && <Settings {...props} kind="region" name={region} title={`Region ${region}`} />}
      </>
    ),
  };
}
