/** What the numbers of a drill's charts mean at a second: formulas with this drill's values in them. Pure. */

import type { DrillAnswer, PlanDocument } from "../../api/client";
import { amount, clock, percent, perSecond, seconds } from "../../kit/format";
import { MECHANISMS } from "./words";

type Explain = (second: number) => string;

/** The event in force at a second. */
export function eventAt(times: readonly number[], second: number): number {
  let index = 0;
  while (index + 1 < times.length && (times[index + 1] ?? 0) <= second) index++;
  return index;
}

function some(values: Record<string, number[]>, index: number, word: (name: string) => string = (name) => name): string[] {
  return Object.entries(values)
    .filter(([, one]) => (one[index] ?? 0) > 1e-6)
    .map(([name, one]) => `${word(name)} ${amount(one[index] ?? 0)}`);
}

function sum(values: Record<string, number[]>, index: number): number {
  return Object.values(values).reduce((all, one) => all + (one[index] ?? 0), 0);
}

export function explainServed({ series }: DrillAnswer): Explain {
  return (second) => {
    const index = eventAt(series.t_s, second);
    const [served, failed] = [sum(series.by_zone_rps, index), sum(series.mechanism_rps, index)];
    const zones = some(series.by_zone_rps, index);
    return `${perSecond(served + failed)} asked = ${zones.length ? zones.join(" + ") : "nothing"} served + ${amount(failed)} failed`;
  };
}

export function explainFailed({ series }: DrillAnswer): Explain {
  return (second) => {
    const index = eventAt(series.t_s, second);
    const parts = some(series.mechanism_rps, index, (name) => MECHANISMS[name] ?? name);
    return parts.length ? `${perSecond(sum(series.mechanism_rps, index))} fail = ${parts.join(" + ")}` : "nothing fails";
  };
}

/** What a machine finishes in a second, as the plan says: undefined where it has no limit, or a fault slows it. */
export function capacityOf(document: PlanDocument, drill: string, machine: string): number | undefined {
  const slowed = document.drills.find((one) => one.name === drill)?.steps.some((step) => step.fail?.slow === machine);
  if (slowed) return undefined;
  const alone = document.instances.find((one) => one.name === machine);
  const fleet = document.fleets.find((one) => machine.startsWith(`${one.name}-`) && /^\d+$/.test(machine.slice(one.name.length + 1)));
  return (alone ?? fleet?.instance)?.capacity_rps ?? undefined;
}

export function explainUtilisation(drill: DrillAnswer, document: PlanDocument): Explain {
  const { series } = drill;
  return (second) => {
    const index = eventAt(series.t_s, second);
    const [used, busiest] = [series.busiest_utilisation[index] ?? 0, series.busiest[index] ?? ""];
    if (!used) return "nothing is asked of any machine with a limit";
    const capacity = capacityOf(document, drill.name, busiest);
    const made = capacity === undefined ? "offered / capacity" : `offered ${perSecond(used * capacity)} / capacity ${perSecond(capacity)}`;
    const over = used > 1 ? `; its backlog grows by u - 1 = ${amount(used - 1)} s a second up to its queue, then the share 1 - 1/u = ${percent(1 - 1 / used)} is refused` : "";
    return `busiest ${busiest}: ${made} = ${percent(used)}${over}; the middle one ${percent(series.middle_utilisation[index] ?? 0)}`;
  };
}

export function explainStale(drill: DrillAnswer, document: PlanDocument): Explain {
  const { series } = drill;
  return (second) => {
    const index = eventAt(series.t_s, second);
    const names = Object.entries(series.stale_share).filter(([, one]) => one.some((value) => value > 0));
    return names
      .map(([name, one]) => {
        const kept = document.names.find((entry) => entry.name === name)?.ttl_s ?? 60;
        return `${name}: ${percent(one[index] ?? 0)} of its clients still follow an older answer; who keeps answers for D = ${kept} s holds one given in (t - D, t], ages evenly spread`;
      })
      .join("; ");
  };
}

export function explainSessions({ series }: DrillAnswer): Explain {
  return (second) => {
    const index = eventAt(series.t_s, second);
    const held = some(series.sessions, index);
    return held.length ? `${amount(sum(series.sessions, index))} held = ${held.join(" + ")}; dm/dt = λ (S - Σm) p - m / life` : "nobody holds a session or connection";
  };
}

export function explainLatency({ series }: DrillAnswer): Explain {
  return (second) => {
    const mean = series.latency_ms[eventAt(series.t_s, second)] ?? 0;
    const said = mean >= 1000 ? seconds(mean / 1000) : `${amount(mean)} ms`;
    return `${said} = round trip + service + wait (Erlang C at min(u, 0.98)) + backlog, the mean of served calls`;
  };
}

/** One line about a row at a second. */
export function sayRow(name: string, second: number, explain: Explain): string {
  return `${name} at ${clock(second)}: ${explain(second)}`;
}
