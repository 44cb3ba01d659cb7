/** The inspector of whatever is no part of the board. */

import { KINDS, placeOf, type ObjectKind } from "../../../plan/names";
import { decimals } from "../../../kit/format";
import { Section } from "../../../kit/parts";
import { Reading } from "../../../kit/reading";
import { Addresses, Rates, Settings, when, type Described, type InspectorProps } from "./shared";
import { Consequence } from "./probe";

/** What is no part of the board: its settings, and for a probe what they mean. */
export function describeObject(props: InspectorProps, kind: ObjectKind, name: string): Described {
  const found = placeOf(props.document, kind, name);
  return {
    kind: KINDS[kind].words,
    title: name,
    content: found ? (
      <>
        {kind === "probe" && <ProbeReadings {...props} name={name} />}
        {kind === "pool" && <PoolReadings {...props} name={name} />}
        {kind === "instance" && (
          <dl>
            <Addresses {...props} of={name} />
          </dl>
        )}
        <Settings {...props} kind={kind} name={name} />
      </>
    ) : (
      <p className="text-ink-soft">The plan has no {KINDS[kind].words} of this name any more.</p>
    ),
  };
}

/** What a probe watches at this moment, and what its numbers mean. */
function ProbeReadings(props: InspectorProps & { name: string }) {
  const { state, document, looking, name, onSelect } = props;
  const probe = state.probes.find((one) => one.name === name);
  const watched = document.target_groups.filter((one) => one.probe === name);
  const names = document.names.filter((one) => one.probe === name);
  return (
    <>
      {probe && watched.length > 0 && (
        <Section title={when(looking)}>
          <dl>
            <Reading label="Watches" value={`${probe.targets} targets`} />
            <Reading label="Believed in use" tone={probe.unnoticed > 0 ? "vermilion" : "ink"} value={`${probe.in_use} of ${probe.targets}${probe.unnoticed > 0 ? ` · ${probe.unnoticed} wrongly` : ""}`} />
            <Reading label="Probes sent" value={`${decimals(probe.probes_per_s)}/s`} why="Every living front asks every target within its reach once an interval: fronts × targets / interval, while answers come at once." />
          </dl>
        </Section>
      )}
      <Section title="Used by">
        {watched.length + names.length === 0 && <p className="text-ink-soft">Nobody: it watches nothing.</p>}
        <ul>
          {[...watched.map((one) => ({ kind: "group" as const, name: one.name })), ...names.map((one) => ({ kind: "name" as const, name: one.name }))].map((one) => (
            <li key={`${one.kind}:${one.name}`}>
              <button type="button" className="min-h-6 text-north hover:underline" onClick={() => onSelect(one)}>
                {one.name}
              </button>
            </li>
          ))}
        </ul>
      </Section>
      <Consequence {...props} probe={name} />
    </>
  );
}

/** What a pool gets at this moment, and how its tiers stand. */
function PoolReadings({ state, looking, name, onSelect }: InspectorProps & { name: string }) {
  const pool = state.pools.find((one) => one.name === name);
  if (!pool) return null;
  return (
    <>
      <Section title={when(looking)}>
        <dl>
          <Rates rates={pool} />
        </dl>
      </Section>
      {pool.tiers.map((tier, place) => (
        <Section key={tier.groups.join(" ")} title={`Tier ${place + 1}`}>
          <dl>
            <Reading label="In use" tone={tier.in_use === 0 ? "vermilion" : "ink"} value={`${tier.in_use} of ${tier.targets} targets`} />
          </dl>
          {tier.groups.map((group) => (
            <button key={group} type="button" className="mr-3 min-h-6 text-north hover:underline" onClick={() => onSelect({ kind: "group", name: group })}>
              {group}
            </button>
          ))}
        </Section>
      ))}
    </>
  );
}
