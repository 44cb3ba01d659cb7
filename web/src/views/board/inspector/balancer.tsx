/** The inspector of a balancer. */

import { Plus } from "lucide-react";
import type { Schemas } from "../../../api/client";
import { nextListener } from "../../../form/fitting";
import { adding, useEdit } from "../../../plan/edit";
import { perSecond } from "../../../kit/format";
import { Section } from "../../../kit/parts";
import { Reading } from "../../../kit/reading";
import { Addresses, Rates, Settings, when, type Described, type InspectorProps } from "./shared";

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
            <Addresses {...props} of={name} />
          </dl>
        </Section>
        <Section title="Fronts">
          <dl>
            {rates?.fronts.map((front) => (
              <Reading key={front.zone} label={front.zone} tone={front.dead ? "vermilion" : "ink"} value={front.dead ? `dead · ${perSecond(front.dead_rps)} meet it` : perSecond(front.rps)} />
            ))}
          </dl>
        </Section>
        {balancer && <Listeners {...props} balancer={balancer} />}
        <Settings {...props} kind="balancer" name={name} leaveOut={["listeners"]} />
      </>
    ),
  };
}

/** A balancer's listeners, each with a way to it, and a new one. */
function Listeners({ planKey, document, balancer, onSelect }: InspectorProps & { balancer: Schemas["Balancer"] }) {
  const { edit } = useEdit(planKey);
  const add = () => {
    const made = nextListener(document, balancer);
    const place = `/balancers/${document.balancers.indexOf(balancer)}/listeners/-`;
    edit.mutate([adding(place, made)], { onSuccess: () => onSelect({ kind: "listener", name: `${balancer.name}/${made.name}` }) });
  };
  return (
    <Section title="Listeners">
      {balancer.listeners.length === 0 && <p className="text-ink-soft">No listener yet: nothing is accepted.</p>}
      <ul>
        {balancer.listeners.map((one) => (
          <li key={one.name}>
            <button type="button" className="flex min-h-6 w-full items-baseline justify-between gap-2 text-left hover:underline" onClick={() => onSelect({ kind: "listener", name: `${balancer.name}/${one.name}` })}>
              <span className="text-north">{one.name}</span>
              <span className="font-mono text-[12px] text-ink-soft">
                {one.protocol} {one.port}
              </span>
            </button>
          </li>
        ))}
      </ul>
      <button type="button" className="mt-1 flex min-h-6 items-center gap-1 text-[12px] font-medium text-north hover:underline" disabled={document.pools.length === 0} onClick={add}>
        <Plus size={12} aria-hidden="true" /> add a listener
      </button>
    </Section>
  );
}
