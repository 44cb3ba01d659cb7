/** The inspector of a front. */

import { seconds } from "../../../kit/format";
import { Section } from "../../../kit/parts";
import { Reading } from "../../../kit/reading";
import { halves } from "../../../plan/selection";
import { Addresses, Rates, Settings, when, type Described, type InspectorProps } from "./shared";

export function describeFront(props: InspectorProps, name: string): Described {
  const { document, state, looking } = props;
  const [balancer, zone] = halves(name);
  const front = state.balancers.find((one) => one.name === balancer)?.fronts.find((one) => one.zone === zone);
  const settings = document.balancers.find((one) => one.name === balancer);
  return {
    kind: "front",
    title: zone,
    subtitle: `of ${balancer}`,
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Reading label="Truth" tone={front?.dead ? "vermilion" : "moss"} value={front?.dead ? "dead" : "living"} />
            <Reading label="Belief" tone={front?.dead && front.in_address ? "vermilion" : "ink"} value={front?.in_address ? "in the address" : "not in the address"} />
            <Rates rates={front} />
            <Addresses {...props} of={name} />
          </dl>
        </Section>
        <Section title="What it means">
          <p>
            A dead front keeps its share of {settings?.addresses[0] ?? "the address"} for <b className="font-semibold">{seconds(settings?.front_failover_s ?? 5)}</b>; one that returns joins after the same time.
          </p>
        </Section>
        <Settings {...props} kind="balancer" name={balancer} title={`Balancer ${balancer}`} leaveOut={["listeners"]} />
      </>
    ),
  };
}
