/** The inspector of a name. */

import { seconds } from "../../../kit/format";
import { Section } from "../../../kit/parts";
import { Reading } from "../../../kit/reading";
import { answersOf } from "../../../board/labels";
import { Rates, Settings, when, type Described, type InspectorProps } from "./shared";

export function describeName(props: InspectorProps, name: string): Described {
  const { document, state, looking } = props;
  const entry = document.names.find((one) => one.name === name);
  return {
    kind: "name",
    title: name,
    subtitle: answersOf(document, name),
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Rates rates={state.names.find((one) => one.name === name)} />
          </dl>
        </Section>
        <Section title="What it means">
          <dl>
            <Reading label="After a change, old answers for" value={`up to ${seconds(entry?.ttl_s ?? 60)}`} why="Caches hold answers of all ages up to the TTL, so the share of clients on an old answer falls evenly to nothing over it; half of them have the new one after half of it." />
            <Reading label="Watched by" value={entry?.probe ?? "nobody"} tone={entry?.probe ? "ink" : "ochre"} why={entry?.probe ? undefined : "Without a probe no answer is ever withdrawn: the first stays the first, whatever happens to it."} />
          </dl>
        </Section>
        <Settings {...props} kind="name" name={name} />
      </>
    ),
  };
}
