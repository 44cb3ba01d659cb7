import { Link2Off, Undo2, X } from "lucide-react";
import type { ReactNode } from "react";

import type { BoardState, PlanDocument, ProbeConsequence, Schemas } from "../api/client";
import { amount, clock, percent, perSecond, secondsRange, seconds } from "../kit/format";
import { Button, IconButton, Reading, Section, type Tone } from "../kit/parts";
import type { Looking } from "../plan/moment";
import { halves, lostName, partOf, type Selection } from "../plan/selection";
import { isWrong } from "./berth";
import { answersOf, usedIn } from "./labels";

export interface InspectorProps {
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

function overview({ document, state, looking }: InspectorProps): Described {
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
  const describers: Record<Selection["kind"], (props: InspectorProps, name: string) => Described> = {
    zone: describeZone,
    group: describeGroup,
    berth: describeBerth,
    front: describeFront,
    balancer: describeBalancer,
    listener: describeListener,
    name: describeName,
    client: describeClient,
  };
  return describers[selection.kind](props, selection.name);
}

function describeZone({ state, looking }: InspectorProps, name: string): Described {
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
      </>
    ),
  };
}

function loadTone(utilisation: number): Tone {
  if (utilisation > 1) return "vermilion";
  return utilisation >= 0.8 ? "ochre" : "ink";
}

function describeGroup({ document, state, looking, consequences }: InspectorProps, name: string): Described {
  const group = document.target_groups?.find((one) => one.name === name);
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
          </dl>
        </Section>
        <ProbeSection document={document} probe={group?.probe ?? undefined} consequences={consequences} />
        <Section title="Choose">
          <dl>
            <Reading label="Targets by" value={group?.balance?.replace("-", " ")} />
            <Reading label="A front may use" value={reachWords(group?.reach ?? "region")} />
            <Reading label="When none is healthy" value={group?.when_none_healthy?.replace("-", " ")} />
            <Reading label="Connect time-out" value={seconds(group?.connect_timeout_s ?? 3)} why="How long a balancer waits for a silent target before it answers 504." />
          </dl>
        </Section>
      </>
    ),
  };
}

function reachWords(reach: string): string {
  return { zone: "its zone's", "prefer-zone": "its zone's first", region: "its region's", any: "any" }[reach] ?? reach;
}

function ProbeSection({ document, probe, consequences }: { document: PlanDocument; probe: string | undefined; consequences: ProbeConsequence[] }) {
  const settings = document.probes?.find((one) => one.name === probe);
  const meaning = consequences.find((one) => one.probe === probe);
  if (!settings || !meaning) return <Section title="No probe"><p className="text-ink-soft">Nobody watches these targets: whatever happens, they stay in use.</p></Section>;
  const silentWhy = `(${settings.unhealthy_after} − 1) × ${settings.interval_s} s + ${settings.timeout_s} s to ${settings.unhealthy_after} × ${settings.interval_s} s + ${settings.timeout_s} s`;
  return (
    <Section title={`Probe ${settings.name}`}>
      <dl>
        <Reading label="Asks" value={<span className="font-mono text-[12px]">{settings.protocol} {settings.port === "same" ? "" : settings.port} {settings.path}</span>} />
        <Reading label="Every" value={seconds(settings.interval_s ?? 10)} />
        <Reading label="Give up after" value={seconds(settings.timeout_s ?? 5)} />
        <Reading label="Out after fails" value={`${settings.unhealthy_after} ×`} />
        <Reading label="Back after passes" value={`${settings.healthy_after} ×`} />
      </dl>
      <div className="mt-2 rounded bg-foot px-3 py-2" data-testid="consequence">
        <p className="text-[12px] text-ink-soft">A silent target is noticed after</p>
        <p className="flex items-baseline justify-between gap-2" title={silentWhy}>
          <b className="text-lg font-semibold">{secondsRange(meaning.silent.earliest_s, meaning.silent.latest_s)}</b>
          <span className="text-[12px] text-ink-soft">{seconds(meaning.silent.mean_s)} on average</span>
        </p>
        <p className="text-[12px] text-ink-soft">
          refused: {secondsRange(meaning.refused.earliest_s, meaning.refused.latest_s)}; back in use after {secondsRange(meaning.returned.earliest_s, meaning.returned.latest_s)}
        </p>
        <p className="mt-1 font-mono text-[11px] text-ink-soft">{silentWhy}</p>
      </div>
    </Section>
  );
}

function describeBerth({ document, state, looking, consequences }: InspectorProps, name: string): Described {
  const [group, target] = halves(name);
  const berth = state.berths.find((one) => one.group === group && one.target === target);
  const settings = document.target_groups?.find((one) => one.name === group);
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
        <ProbeSection document={document} probe={settings?.probe ?? undefined} consequences={consequences} />
      </>
    ),
  };
}

function describeFront({ document, state, looking }: InspectorProps, name: string): Described {
  const [balancer, zone] = halves(name);
  const front = state.balancers.find((one) => one.name === balancer)?.fronts.find((one) => one.zone === zone);
  const settings = document.balancers?.find((one) => one.name === balancer);
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
            A dead front keeps its share of {settings?.addresses?.[0] ?? "the address"} for <b className="font-semibold">{seconds(settings?.front_failover_s ?? 5)}</b>; one that returns joins after the same time.
          </p>
        </Section>
      </>
    ),
  };
}

function describeBalancer({ document, state, looking }: InspectorProps, name: string): Described {
  const balancer = document.balancers?.find((one) => one.name === name);
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
        <Section title="Address">
          <dl>
            <Reading label={`${balancer?.address_kind} address`} value={<span className="font-mono text-[12px]">{balancer?.addresses?.join(", ") || "given out when built"}</span>} />
            <Reading label="Dead front leaves after" value={seconds(balancer?.front_failover_s ?? 5)} />
          </dl>
        </Section>
      </>
    ),
  };
}

function actionWords(action: Schemas["Action"]): string {
  if (action.pool) return `pool ${action.pool}`;
  if (action.redirect) return `redirect ${action.redirect.status ?? 302} to ${action.redirect.protocol ?? "the same"}${action.redirect.port ? ` ${action.redirect.port}` : ""}`;
  return `answer ${action.respond?.status ?? 200}`;
}

function describeListener({ document, state, looking }: InspectorProps, name: string): Described {
  const [balancerName, listenerName] = halves(name);
  const listener = document.balancers?.find((one) => one.name === balancerName)?.listeners?.find((one) => one.name === listenerName);
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
        <Section title="Rules, first match serves">
          <ol className="space-y-1">
            {listener?.rules?.map((rule, index) => (
              <li key={rule.name} className="flex justify-between gap-3">
                <span className="min-w-0">
                  {index + 1} <b className="font-semibold">{rule.name}</b>{" "}
                  <span className="font-mono text-[12px] text-ink-soft">{[...(rule.when?.host ?? []), ...(rule.when?.path ?? [])].join(" ")}</span>
                </span>
                <span className="shrink-0">{actionWords(rule.do)}</span>
              </li>
            ))}
            {listener && (
              <li className="flex justify-between gap-3">
                <span className="text-ink-soft">otherwise</span>
                <span>{actionWords(listener.otherwise)}</span>
              </li>
            )}
          </ol>
        </Section>
      </>
    ),
  };
}

function describeName({ document, state, looking }: InspectorProps, name: string): Described {
  const entry = document.names?.find((one) => one.name === name);
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
            <Reading label="Kept by resolvers for" value={seconds(entry?.ttl_s ?? 60)} />
            <Reading label="Chosen by" value={entry?.choose} />
            <Reading label="Watched by" value={entry?.probe ?? "nobody"} tone={entry?.probe ? "ink" : "ochre"} why={entry?.probe ? undefined : "Without a probe no answer is ever withdrawn: the first stays the first, whatever happens to it."} />
          </dl>
        </Section>
      </>
    ),
  };
}

function describeClient({ document, state, looking }: InspectorProps, name: string): Described {
  const client = document.clients?.find((one) => one.name === name);
  const whole = client?.calls.reduce((sum, call) => sum + (call.share ?? 1), 0) ?? 1;
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
        <Section title="Calls">
          <ul className="space-y-1">
            {client?.calls.map((call) => (
              <li key={call.url} className="flex justify-between gap-3">
                <span className="min-w-0 font-mono text-[12px] [overflow-wrap:anywhere]">{call.url}</span>
                <b className="shrink-0 font-semibold">{percent((call.share ?? 1) / whole)}</b>
              </li>
            ))}
          </ul>
        </Section>
        <Section title="Patience">
          <dl>
            <Reading label="Waits for an answer" value={seconds(client?.timeout_s ?? 10)} />
            <Reading label="Waits for a connection" value={seconds(client?.connect_timeout_s ?? 5)} />
          </dl>
        </Section>
      </>
    ),
  };
}
