/** The inspector of a client group. */

import { amount } from "../../../kit/format";
import { Section } from "../../../kit/parts";
import { Rates, Settings, when, type Described, type InspectorProps } from "./shared";

export function describeClient(props: InspectorProps, name: string): Described {
  const { document, state, looking } = props;
  const client = document.clients.find((one) => one.name === name);
  return {
    kind: "client group",
    title: name,
    subtitle: `${amount(client?.sources ?? 0)} sources in ${client?.area ?? "no area"}`,
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Rates rates={state.clients.find((one) => one.name === name)} />
          </dl>
        </Section>
        <Settings {...props} kind="client" name={name} />
      </>
    ),
  };
}
