import { Link2Off, Undo2, X } from "lucide-react";
import type { ReactNode } from "react";

import type { BoardState, PlanDocument, ProbeConsequence, Schemas } from "../../api/client";
import { amount, clock, percent, perSecond, secondsRange, seconds } from "../../kit/format";
import { Button, IconButton, Reading, Section, type Tone } from "../../kit/parts";
import { KINDS, placeOf, type ObjectKind } from "../../plan/names";
import { ObjectSection, PlanSection } from "../../form/object-section";
import { RulesTable } from "../../form/rules-table";
import { adding, removing, useEdit } from "../../plan/edit";
import type { Looking } from "../../plan/moment";
import type { Asked } from "../../plan/queries";
import { halves, lostName, partOf, type Selection } from "../../plan/selection";
import { isWrong } from "./berth";
import { answersOf, usedIn } from "./labels";

export interface InspectorProps {
  planKey: string;
  asked: Asked;
  losses: Schemas["ZoneLoss"][];
  /** Asks for the losses, where they are not worked out unasked. */
  onLosses?: (() => void) | undefined;
  document: PlanDocument;
  state: BoardState;
  looking: Looking;
  selection: Selection | undefined;
  lost: boolean;
  consequences: ProbeConsequence[];
  onBreak: (selection: Selection) => void;
  onSelect: (selection: Selection | undefined) => void;
}

/** What is selected: its readings at this moment, its settings, and what they mean. */
export function Inspector(props: InspectorProps) {
  const { selection, onSelect } = props;
  const body = selection ? describe(props, selection) : overview(props);
  return (
    <aside className="flex h-full flex-col overflow-y-auto bg-panel px-4 pt-3 pb-6" aria-label="Inspector" data-testid="inspector">
      <header className="mb-4 flex items-start justify-between gap-2">
        <div className="min-w-0">
          <p className="text-[12px] text-ink-soft">{body.kind}</p>
          <h2 className="text-xl leading-tight font-semibold [overflow-wrap:anywhere]">{body.title}</h2>
          {body.subtitle && <p className="text-[12px] text-ink-soft">{body.subtitle}</p>}
        </div>
        <span className="flex shrink-0 gap-1.5">
          {selection && partOf(selection) && <BreakButton {...props} selection={selection} />}
          {selection && (
            <IconButton label="Close" onClick={() => onSelect(undefined)}>
              <X size={14} />
            </IconButton>
          )}
        </span>
      </header>
      {body.content}
    </aside>
  );
}

function BreakButton({ selection, lost, onBreak }: InspectorProps & { selection: Selection }) {
  return (
    <Button tone={lost ? "plain" : "danger"} onClick={() => onBreak(selection)} title={lost ? "Bring it back (x)" : `What if ${lostName(selection)} were lost? (x)`}>
      {lost ? <Undo2 size={13} aria-hidden="true" /> : <Link2Off size={13} aria-hidden="true" />}
      {lost ? "Bring back" : "Break"}
    </Button>
  );
}

interface Described {
  kind: string;
  title: string;
  subtitle?: ReactNode;
  content: ReactNode;
}

/** The heading of readings: which moment they are of. */
function when(looking: Looking): string {
  if (looking.mode === "drill") return `At ${clock(looking.at)} of the drill`;
  if (looking.mode === "what-if") return { at_once: "At once after the loss", noticed: "When it is noticed", settled: "When it has settled" }[looking.moment];
  return "Now";
}

function Rates({ rates }: { rates: { rps: number; served_rps: number; failed_rps: number } | undefined }) {
  if (!rates) return null;
  const share = rates.rps > 0 ? rates.failed_rps / rates.rps : 0;
  return (
    <>
      <Reading label="Offered" value={`${amount(rates.rps)} requests/s`} />
      <Reading label="Served" value={`${amount(rates.served_rps)} requests/s`} />
      <Reading
        label="Failing"
        tone={rates.failed_rps > 0 ? "vermilion" : "ink"}
        value={rates.failed_rps > 0 ? `${perSecond(rates.failed_rps)} · ${percent(share)}` : "none"}
      />
    </>
  );
}

const CAUSES: Record<string, string> = {
  refused: "refused",
  timed_out: "timed out",
  overloaded: "overloaded",
  none_healthy: "none healthy",
  blocked: "blocked",
  bad_status: "bad status",
  dead_front: "dead front",
  reset: "reset",
};

function overview({ planKey, document, state, looking }: InspectorProps): Described {
  const failing = Object.entries(state.failed_by_cause).filter(([, rate]) => rate > 0);
  return {
    kind: "plan",
    title: document.title || document.name,
    content: (
      <>
        <Section title={when(looking)}>
          <dl>
            <Rates rates={state} />
            {failing.map(([cause, rate]) => (
              <Reading key={cause} label={`  ${CAUSES[cause] ?? cause}`} tone="vermilion" value={perSecond(rate)} />
            ))}
            <Reading label="Mean latency" value={`${amount(state.mean_latency_ms)} ms`} why="Mean over served calls: the client's round trip, the wait in the queue, the backlog and the service itself." />
          </dl>
        </Section>
        <Section title="Zones">
          <dl>
            {state.zones.map((zone) => (
              <Reading key={zone.name} label={zone.name} tone={zone.lost ? "vermilion" : "ink"} value={zone.lost ? "lost" : perSecond(zone.served_rps)} />
            ))}
          </dl>
        </Section>
        {looking.mode === "drill" && <DrillReadings drill={looking.drill} />}
        {document.notes && <p className="mt-5 text-[12px] text-ink-soft">{document.notes}</p>}
        <PlanSection planKey={planKey} document={document} />
      </>
    ),
  };
}

function DrillReadings({ drill }: { drill: Schemas["DrillAnswer"] }) {
  return (
    <Section title={`The whole drill${drill.expect.length ? `: held ${drill.expect.filter((one) => one.held).length} of ${drill.expect.length}` : ""}`}>
      <dl>
        <Reading label="Failed requests" value={`${amount(drill.readings.failed)} of ${amount(drill.readings.requests)}`} />
        {drill.expect.map((one) => (
          <Reading
            key={one.reading + one.wanted}
            label={`${one.reading.replaceAll("_", " ")} ${one.wanted}`}
            tone={one.held ? "moss" : "vermilion"}
            value={`${one.held ? "held" : "not held"}: ${Number(one.got.toPrecision(4))}`}
          />
        ))}
      </dl>
    </Section>
  );
}

function describe(props: InspectorProps, selection: Selection): Described {
  const describers: Partial<Record<Selection["kind"], (props: InspectorProps, name: string) => Described>> = {
    zone: describeZone,
    group: describeGroup,
    berth: describeBerth,
    front: describeFront,
    balancer: describeBalancer,
    listener: describeListener,
    name: describeName,
    client: describeClient,
  };
  const describer = describers[selection.kind];
  return describer ? describer(props, selection.name) : describeObject(props, selection.kind as ObjectKind, selection.name);
}

/** What is no part of the board: its settings, and for a probe what they mean. */
function describeObject(props: InspectorProps, kind: ObjectKind, name: string): Described {
  const found = placeOf(props.document, kind, name);
  return {
    kind: KINDS[kind].words,
    title: name,
    content: found ? (
      <>
        {kind === "probe" && <Consequence {...props} probe={name} />}
        <Settings {...props} kind={kind} name={name} />
      </>
    ) : (
      <p className="text-ink-soft">The plan has no {KINDS[kind].words} of this name any more.</p>
    ),
  };
}

interface SettingsProps extends InspectorProps {
  kind: ObjectKind;
  name: string;
  title?: string;
  inside?: { path: string; definition: string };
  leaveOut?: string[];
}

/** The settings of an object, edited in place; after a rename the selection follows. */
function Settings({ planKey, document, kind, name, title, inside, leaveOut, onSelect }: SettingsProps) {
  return (
    <ObjectSection
      key={`${kind}:${name}${inside?.path ?? ""}`}
      planKey={planKey}
      document={document}
      kind={kind}
      name={name}
      title={title}
      inside={inside}
      leaveOut={leaveOut}
      onRenamed={(to) => onSelect({ kind, name: to })}
      onDeleted={() => onSelect(undefined)}
    />
  );
}

function describeZone(props: InspectorProps, name: string): Described {
  const { state, looking, document } = props;
  const region = document.regions.find((one) => one.zones.includes(name))?.name;
  const zone = state.zones.find((one) => one.name === name);
  const cells = state.cells.filter((cell) => cell.zone === name);
  return {
    kind: "zone",
    title: name,
    subtitle: zone && `in ${zone.region}`,
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
        <Section title="If it were lost, and settled">
          <dl>
            {Object.entries(props.losses.find((one) => one.zone === name)?.peak_utilisation ?? {}).map(([group, load]) => (
              <Reading key={group} label={group} tone={loadTone(load)} value={`busiest ${percent(load)}`} />
            ))}
          </dl>
        </Section>
        {region && <Settings {...props} kind="region" name={region} title={`Region ${region}`} />}
      </>
    ),
  };
}

function loadTone(utilisation: number): Tone {
  if (utilisation > 1) return "vermilion";
  return utilisation >= 0.8 ? "ochre" : "ink";
}

function describeGroup(props: InspectorProps, name: string): Described {
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
            {losses
              .filter((one) => state.cells.some((cell) => cell.group === name && cell.zone === one.zone))
              .map((one) => (
                <Reading
                  key={one.zone}
                  label={`Without ${one.zone}`}
                  tone={loadTone(one.peak_utilisation[name] ?? 0)}
                  value={`busiest ${percent(one.peak_utilisation[name] ?? 0)}`}
                  why="The busiest target of this group when that zone is lost, everybody has noticed, and nothing changes any more."
                />
              ))}
          </dl>
          {props.onLosses && <Button onClick={props.onLosses}>Work out what each zone’s loss leaves</Button>}
        </Section>
        <ProbeSection {...props} probe={group?.probe ?? undefined} />
        <Settings {...props} kind="group" name={name} />
      </>
    ),
  };
}

function ProbeSection(props: InspectorProps & { probe: string | undefined }) {
  const { document, probe } = props;
  if (!document.probes.some((one) => one.name === probe) || !probe) {
    return (
      <Section title="No probe">
        <p className="text-ink-soft">Nobody watches these targets: whatever happens, they stay in use.</p>
      </Section>
    );
  }
  return (
    <>
      <Settings {...props} kind="probe" name={probe} title={`Probe ${probe}`} inside={{ path: "", definition: "Probe" }} leaveOut={["host", "next_after", "port"]} />
      <Consequence {...props} probe={probe} />
    </>
  );
}

/** What a probe's four numbers mean in seconds. */
function Consequence({ document, probe, consequences }: InspectorProps & { probe: string }) {
  const settings = document.probes.find((one) => one.name === probe);
  const meaning = consequences.find((one) => one.probe === probe);
  if (!settings || !meaning) return null;
  const silentWhy = `(${settings.unhealthy_after} − 1) × ${settings.interval_s} s + ${settings.timeout_s} s to ${settings.unhealthy_after} × ${settings.interval_s} s + ${settings.timeout_s} s`;
  return (
    <div className="mt-2 rounded bg-foot px-3 py-2" data-testid="consequence">
      <p className="text-[12px] text-ink-soft">A silent target is noticed after</p>
      <p className="flex items-baseline justify-between gap-2" title={silentWhy}>
        <b className="text-lg font-semibold">{secondsRange(meaning.silent.earliest_s, meaning.silent.latest_s)}</b>
        <span className="text-[12px] text-ink-soft">{seconds(meaning.silent.mean_s)} on average</span>
      </p>
      <p className="text-[12px] text-ink-soft">
        refused: {secondsRange(meaning.refused.earliest_s, meaning.refused.latest_s)}; back in use after {secondsRange(meaning.returned.earliest_s, meaning.returned.latest_s)}
      </p>
      {settings.next_after === "send" && <p className="mt-1 font-mono text-[11px] text-ink-soft">{silentWhy}</p>}
    </div>
  );
}

function describeBerth(props: InspectorProps, name: string): Described {
  const { document, state, looking } = props;
  const [group, target] = halves(name);
  const berth = state.berths.find((one) => one.group === group && one.target === target);
  const settings = document.target_groups.find((one) => one.name === group);
  if (!berth) return { kind: "target", title: target, content: <p className="text-ink-soft">It is not in {group} any more.</p> };
  const wrong = isWrong(berth);
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
              tone={wrong ? "vermilion" : "ink"}
              value={berth.belief === "unknown" ? "no living front" : `${berth.belief} · ${berth.believed_in} of ${berth.believed_of} fronts`}
            />
            <Rates rates={berth} />
            <Reading label="Share of the group" value={percent(berth.share)} />
            <Reading
              label="Utilisation"
              tone={loadTone(berth.utilisation)}
              value={berth.capacity_rps ? `${percent(berth.utilisation)} of ${amount(berth.capacity_rps)}/s` : "no limit known"}
              why="Requests offered to the machine by all its groups, over what it can finish in a second."
            />
            <Reading label="Latency" value={`${amount(berth.latency_ms)} ms`} why="Service time, plus the mean wait of a queue with as many servers as capacity × service time, plus the backlog." />
            {berth.backlog_s > 0 && <Reading label="Backlog" tone="ochre" value={seconds(berth.backlog_s)} />}
          </dl>
        </Section>
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

function describeFront(props: InspectorProps, name: string): Described {
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

function describeBalancer(props: InspectorProps, name: string): Described {
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

function describeListener(props: InspectorProps, name: string): Described {
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
        {listener && <Settings {...props} kind="balancer" name={balancerName} title="Settings" inside={{ path: `/listeners/${index}`, definition: "Listener" }} />}
      </>
    ),
  };
}

function describeName(props: InspectorProps, name: string): Described {
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

function describeClient(props: InspectorProps, name: string): Described {
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
