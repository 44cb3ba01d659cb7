/** The inspector of a balancer. */

import { perSecond } from "../../../kit/format";
import { Reading, Section } from "../../../kit/parts";
import { Rates, Settings, when, type Described, type InspectorProps } from "./shared";

export function describeBalancer(props: InspectorProps, name: string): Described {
  const { document, state, looking } = props;
  const balancer = document.balancers.find((one) => one.name === name);
  const rates = state.balancers.find((one) => one.name === name);
  return {
    kind: "balancer",
    title: name,
    subtitle: `${balancer?.exposure}, layer ${balancer?.layer}`,
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Rates rates={rates} />
          </dl>
        </Section>
        <Section title="Fronts">
          <dl>
            {rates?.fronts.map((front) => (
              <Reading key={front.zone} label={front.zone} tone={front.dead ? "vermilion" : "ink"} value={front.dead ? `dead · ${perSecond(front.dead_rps)} meet it` : perSecond(front.rps)} />
            ))}
          </dl>
        </Section>
        <Settings {...props} kind="balancer" name={name} leaveOut={["listeners"]} />
      </>
    ),
  };
}
