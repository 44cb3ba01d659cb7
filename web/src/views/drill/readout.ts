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

/** Reads values off their lines at a second: from each event on they stay, or go evenly to what they are before the next. */
function reader({ series, lasts_s }: DrillAnswer, second: number): (values: number[] | undefined, before: number[] | undefined) => number {
  const index = eventAt(series.t_s, second);
  const [from, to] = [series.t_s[index] ?? 0, series.t_s[index + 1] ?? lasts_s];
  const part = to > from ? (second - from) / (to - from) : 0;
  return (values, before) => {
    const value = values?.[index] ?? 0;
    return value + ((before?.[index] ?? value) - value) * part;
  };
}

type Several = Record<string, number[]>;

function some(values: Several, value: (name: string) => number, word: (name: string) => string = (name) => name): string[] {
  return Object.keys(values)
    .filter((name) => value(name) > 1e-6)
    .map((name) => `${word(name)} ${amount(value(name))}`);
}

export function explainServed(drill: DrillAnswer): Explain {
  const { series } = drill;
  const { before } = series;
  return (second) => {
    const read = reader(drill, second);
    const zones = some(series.by_zone_rps, (name) => read(series.by_zone_rps[name], before?.by_zone_rps[name]));
    return `${perSecond(read(series.asked_rps, before?.asked_rps))} asked = ${zones.length ? zones.join(" + ") : "nothing"} served + ${amount(read(series.all_failed_rps, before?.all_failed_rps))} failed`;
  };
}

export function explainFailed(drill: DrillAnswer): Explain {
  const { series } = drill;
  const { before } = series;
  return (second) => {
    const read = reader(drill, second);
    const parts = some(series.mechanism_rps, (name) => read(series.mechanism_rps[name], before?.mechanism_rps[name]), (name) => MECHANISMS[name] ?? name);
    return parts.length ? `${perSecond(read(series.all_failed_rps, before?.all_failed_rps))} fail = ${parts.join(" + ")}` : "nothing fails";
  };
}

export function explainUtilisation({ series }: DrillAnswer): Explain {
  return (second) => {
    const index = eventAt(series.t_s, second);
    const used = series.busiest_utilisation[index] ?? 0;
    if (!used) return "nothing is asked of any machine with a limit";
    const [offered, capacity] = [series.busiest_offered_rps[index] ?? 0, series.busiest_capacity_rps[index] ?? 0];
    const [growth, excess] = [series.busiest_growth[index] ?? 0, series.busiest_excess[index] ?? 0];
    const over = growth > 0 ? `; its backlog grows by u - 1 = ${amount(growth)} s a second up to its queue, then the share 1 - 1/u = ${percent(excess)} is refused` : "";
    return `busiest ${series.busiest[index] ?? ""}: offered ${perSecond(offered)} / capacity ${perSecond(capacity)} = ${percent(used)}${over}; the middle one ${percent(series.middle_utilisation[index] ?? 0)}`;
  };
}

export function explainStale(drill: DrillAnswer, document: PlanDocument): Explain {
  const { series } = drill;
  return (second) => {
    const read = reader(drill, second);
    const names = Object.entries(series.stale_share).filter(([, one]) => one.some((value) => value > 0));
    return names
      .map(([name, one]) => {
        const kept = document.names.find((entry) => entry.name === name)?.ttl_s ?? 60;
        return `${name}: ${percent(read(one, series.before?.stale_share[name]))} of its clients still follow an older answer; who keeps answers for D = ${kept} s holds one given in (t - D, t], ages evenly spread`;
      })
      .join("; ");
  };
}

export function explainSessions({ series }: DrillAnswer): Explain {
  return (second) => {
    const index = eventAt(series.t_s, second);
    const held = some(series.sessions, (name) => series.sessions[name]?.[index] ?? 0);
    return held.length ? `${amount(series.held[index] ?? 0)} held = ${held.join(" + ")}; dm/dt = λ (S - Σm) p - m / life` : "nobody holds a session or connection";
  };
}

export function explainLatency(drill: DrillAnswer): Explain {
  return (second) => {
    const mean = reader(drill, second)(drill.series.latency_ms, drill.series.before?.latency_ms);
    const said = mean >= 1000 ? seconds(mean / 1000) : `${amount(mean)} ms`;
    return `${said} = round trip + service + wait (Erlang C at min(u, 0.98)) + backlog, the mean of served calls`;
  };
}

/** One line about a row at a second. */
export function sayRow(name: string, second: number, explain: Explain): string {
  return `${name} at ${clock(second)}: ${explain(second)}`;
}
