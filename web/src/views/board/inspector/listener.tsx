/** The inspector of a listener. */

import { Section } from "../../../kit/parts";
import { RulesTable } from "../../../form/rules-table";
import { halves } from "../../../plan/selection";
import { Rates, Settings, when, type Described, type InspectorProps } from "./shared";

export function describeListener(props: InspectorProps, name: string): Described {
  const { document, state, looking, asked, planKey } = props;
  const [balancerName, listenerName] = halves(name);
  const listeners = document.balancers.find((one) => one.name === balancerName)?.listeners ?? [];
  const index = listeners.findIndex((one) => one.name === listenerName);
  const listener = listeners[index];
  const rates = state.balancers.find((one) => one.name === balancerName)?.listeners.find((one) => one.name === listenerName);
  return {
    kind: "listener",
    title: `${listener?.protocol ?? ""} ${listener?.port ?? ""}`,
    subtitle: `of ${balancerName}${listener?.certificate ? `, certificate ${listener.certificate}` : ""}`,
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Rates rates={rates} />
          </dl>
        </Section>
        {listener && <RulesTable asked={asked} planKey={planKey} document={document} balancer={balancerName} index={index} listener={listener} />}
        {listener && <Settings {...props} kind="balancer" name={balancerName} title="Settings" inside={{ path: `/listeners/${index}`, definition: "Listener" }} leaveOut={["rules"]} renamed={(to) => ({ kind: "listener", name: `${balancerName}/${to}` })} />}
      </>
    ),
  };
}
