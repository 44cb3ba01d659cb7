/** The script of a drill: usual faults to add, and what an edit of it is. Pure. */

import type { PlanDocument, Schemas } from "../../api/client";
import { writeCsv } from "../../kit/rows";
import { adding, setting, type Operation } from "../../plan/edit";

type Step = Schemas["Step"];

export interface UsualFault {
  words: string;
  steps: (at: number) => Partial<Step>[];
}

const BACK_AFTER_S = 120;

function lost(part: Record<string, unknown>): (at: number) => Partial<Step>[] {
  return (at) => [{ at_s: at, fail: part as Step["fail"] }, { at_s: at + BACK_AFTER_S, restore: part as Step["restore"] }];
}

/** Faults that happen, with parts of this plan: each is lost at a second, and back two minutes later. */
export function usualFaults(document: PlanDocument): UsualFault[] {
  const zones = document.regions.flatMap((region) => region.zones);
  const machine = document.instances[0]?.name ?? (document.fleets[0] ? `${document.fleets[0].name}-1` : undefined);
  const balancer = document.balancers[0];
  const front = balancer && Object.keys(balancer.zones)[0];
  const client = document.clients[0]?.name;
  const [group, certificate, fleet] = [document.target_groups[0]?.name, document.certificates[0]?.name, document.fleets[0]];
  const several = document.names.find((one) => one.answers.length > 1);
  const ruled = document.firewalls.find((one) => one.allow_in.length > 0)?.name;
  const found: (UsualFault | false | undefined)[] = [
    ...zones.map((zone) => ({ words: `zone ${zone} is lost`, steps: lost({ zone }) })),
    ...document.regions.map((region) => ({ words: `region ${region.name} is lost`, steps: lost({ region: region.name }) })),
    machine !== undefined && { words: `instance ${machine} goes silent`, steps: lost({ instance: machine }) },
    machine !== undefined && { words: `the process on ${machine} crashes`, steps: lost({ process: machine }) },
    machine !== undefined && { words: `${machine} becomes twenty times slower`, steps: lost({ slow: machine, factor: 20 }) },
    balancer && front !== undefined && { words: `the ${front} front of ${balancer.name} dies`, steps: lost({ front: { balancer: balancer.name, zone: front } }) },
    zones.length > 1 && { words: `the link from ${zones[0]} to ${zones[1]} is cut`, steps: lost({ link: [zones[0], zones[1]] }) },
    ruled !== undefined && { words: `the first rule of ${ruled} is withdrawn`, steps: lost({ firewall: ruled, rule: 0 }) },
    client !== undefined && { words: `${client} ask three times as much`, steps: (at: number) => [{ at_s: at, surge: { clients: client, factor: 3 } }, { at_s: at + BACK_AFTER_S, surge: { clients: client, factor: 1 } }] },
    machine !== undefined && { words: `${machine} drains`, steps: (at: number) => [{ at_s: at, drain: { instance: machine } }, { at_s: at + BACK_AFTER_S, undrain: { instance: machine } }] },
    machine !== undefined && { words: `${machine} is terminated`, steps: (at: number) => [{ at_s: at, remove: { instance: machine } }] },
    group !== undefined && { words: `${group} is restarted, two at a time`, steps: (at: number) => [{ at_s: at, roll: { group, batch: 2, wait_for: "in_use" as const, restart_s: 30 } }] },
    fleet && { words: `${fleet.name} is scaled to ${fleet.count + 3}`, steps: (at: number) => [{ at_s: at, scale: { fleet: fleet.name, count: fleet.count + 3 } }] },
    certificate !== undefined && { words: `certificate ${certificate} expires`, steps: (at: number) => [{ at_s: at, expire: { certificate } }] },
    several && { words: `the first answer of ${several.name} is withdrawn`, steps: (at: number) => [{ at_s: at, withdraw: { name: several.name, answer: 0 } }] },
  ];
  return found.filter((one) => typeof one === "object");
}

/** Where a drill stands in the plan, as a JSON Pointer. */
export function drillPlace(document: PlanDocument, name: string): string | undefined {
  const index = document.drills.findIndex((one) => one.name === name);
  return index < 0 ? undefined : `/drills/${index}`;
}

/** The edit that adds a fault at a second; the drill is made longer where it must be. */
export function addingFault(document: PlanDocument, name: string, fault: UsualFault, at: number): Operation[] {
  const place = drillPlace(document, name);
  const drill = document.drills.find((one) => one.name === name);
  if (place === undefined || !drill) return [];
  const steps = fault.steps(at);
  const last = Math.max(...steps.map((step) => step.at_s ?? 0));
  const longer = last + 60 > (drill.lasts_s) ? [setting(`${place}/lasts_s`, last + 60)] : [];
  return [...longer, ...steps.map((step) => adding(`${place}/steps/-`, step))];
}

/** The edit that moves a step to another second, within the drill. */
export function movingStep(document: PlanDocument, name: string, step: number, at: number): Operation[] {
  const place = drillPlace(document, name);
  const lasts = document.drills.find((one) => one.name === name)?.lasts_s ?? 900;
  if (place === undefined) return [];
  return [setting(`${place}/steps/${step}/at_s`, Math.round(Math.min(Math.max(at, 0), lasts)))];
}

/** A series as CSV: one row for each event. */
export function seriesAsCsv(series: Schemas["SeriesAnswer"]): string {
  const columns: [string, readonly (number | string)[]][] = [
    ["t_s", series.t_s],
    ...Object.entries(series.by_zone_rps).map(([zone, values]): [string, number[]] => [`served ${zone} /s`, values]),
    ...Object.entries(series.mechanism_rps).map(([name, values]): [string, number[]] => [`failed ${name} /s`, values]),
    ["busiest", series.busiest],
    ["busiest utilisation", series.busiest_utilisation],
    ["latency ms", series.latency_ms],
    ...Object.entries(series.stale_share).map(([name, values]): [string, number[]] => [`old answers ${name}`, values]),
  ];
  const rows = series.t_s.map((_, index) => columns.map(([, values]) => String(values[index] ?? "")));
  return writeCsv([columns.map(([name]) => name), ...rows]);
}

export interface Happening {
  kind: string;
  from_s: number;
  to_s: number;
  words: string;
}

/** What happened, in few lines: verdicts that come one after the other are told together. */
export function happenings(events: readonly Schemas["EventAnswer"][]): Happening[] {
  const told: (Happening & { about: Set<string>; turn: string })[] = [];
  for (const event of events) {
    const turn = event.in_use === null ? "" : event.in_use ? "back in use" : "out";
    const last = told.at(-1);
    if (turn && last?.turn === turn) {
      for (const one of event.about) last.about.add(one);
      last.to_s = event.at_s;
      last.words = verdictWords([...last.about], turn);
    } else {
      told.push({ kind: event.kind, from_s: event.at_s, to_s: event.at_s, words: turn ? verdictWords(event.about, turn) : event.message, about: new Set(event.about), turn });
    }
  }
  return told.map(({ kind, from_s, to_s, words }) => ({ kind, from_s, to_s, words }));
}

function verdictWords(targets: readonly string[], turn: string): string {
  const [first = ""] = targets;
  if (targets.length <= 2) return `${targets.join(" and ")} ${turn}`;
  return `${first} … ${targets.at(-1) ?? ""}: ${targets.length} targets ${turn}`;
}
