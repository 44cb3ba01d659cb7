/** The request as it stands in the address bar, and as the form edits it. Pure. */

import type { PlanDocument, Schemas } from "../../api/client";

export const VARIES = ["connection", "kept", "source", "area"] as const;
export type Vary = (typeof VARIES)[number];

export const VARY_WORDS: Record<Vary, string> = {
  connection: "new connection each",
  kept: "one connection",
  source: "new source each",
  area: "every area in turn",
};

export const TIMES = [1, 10, 20, 100, 1000] as const;

/** What the address bar says of a trace. */
export interface TraceSearch {
  client?: string | undefined;
  source?: string | undefined;
  area?: string | undefined;
  url?: string | undefined;
  method?: string | undefined;
  /** Headers, one a line: `name: value`. */
  headers?: string | undefined;
  session?: "kept" | undefined;
  times?: number | undefined;
  vary?: Vary | undefined;
  /** Which of many is shown, counted from 1. */
  show?: number | undefined;
  drill?: string | undefined;
  at?: number | undefined;
  /** `group/target`: the probe of a target instead of a request. */
  probe?: string | undefined;
  /** `balancer/zone`: the front that probes. */
  front?: string | undefined;
}

/** Keeps what is understood of a search and drops the rest. */
export function readTraceSearch(search: Record<string, unknown>): TraceSearch {
  const text = (name: string) => (typeof search[name] === "string" && search[name] ? search[name] : undefined);
  const at = Number(search["at"]);
  const times = Number(search["times"]);
  return {
    client: text("client"),
    source: text("source"),
    area: text("area"),
    url: text("url"),
    method: text("method"),
    headers: text("headers"),
    session: search["session"] === "kept" ? "kept" : undefined,
    times: TIMES.find((one) => one === times),
    vary: VARIES.find((one) => one === search["vary"]),
    show: Number.isInteger(Number(search["show"])) && Number(search["show"]) > 1 ? Number(search["show"]) : undefined,
    drill: text("drill"),
    at: search["at"] !== undefined && Number.isFinite(at) && at >= 0 ? at : undefined,
    probe: text("probe"),
    front: text("front"),
  };
}

/** The search with what it leaves open filled in from the plan: the first client group and its first URL. */
export function filledIn(search: TraceSearch, document: PlanDocument): TraceSearch {
  if (search.probe) return search;
  const clients = document.clients;
  const free = search.source !== undefined && search.client === undefined;
  const client = free ? undefined : (clients.find((one) => one.name === search.client) ?? clients[0]);
  return { ...search, client: free ? undefined : (search.client ?? client?.name), url: search.url ?? client?.calls[0]?.url ?? clients[0]?.calls[0]?.url };
}

/** `name: value` lines as headers; a line without a colon is left out. */
export function headersIn(text: string | undefined): Record<string, string> {
  const lines = (text ?? "").split("\n").filter((line) => line.includes(":"));
  const pairs = lines.map((line) => [line.slice(0, line.indexOf(":")), line.slice(line.indexOf(":") + 1)] as const);
  return Object.fromEntries(pairs.filter(([name]) => name.trim() !== "").map(([name, value]) => [name.trim(), value.trim()]));
}

/** What is asked of the server; undefined where there is nothing to ask yet. */
export function questionFor(search: TraceSearch): Schemas["TraceQuestion"] | undefined {
  const moment = search.at === undefined || !search.drill ? {} : { drill: search.drill, at_s: search.at };
  const common = { url: "", method: "GET", headers: {}, session: "none" as const, times: 1, vary: "connection" as const, show: 0, at_s: 0, ...moment };
  if (search.probe) {
    const slash = search.probe.indexOf("/");
    return { ...common, probe_group: search.probe.slice(0, slash), probe_target: search.probe.slice(slash + 1), probe_front: search.front ?? null };
  }
  if (!search.url) return undefined;
  return {
    ...common,
    url: search.url,
    client: search.client ?? null,
    source: search.source ?? null,
    area: search.area ?? null,
    method: search.method ?? "GET",
    headers: headersIn(search.headers),
    session: search.session ?? "none",
    times: search.times ?? 1,
    vary: search.vary ?? "connection",
    show: Math.max(Math.min(search.show ?? 1, search.times ?? 1) - 1, 0),
  };
}

/** The command that asks the same of the plan's file. */
export function commandFor(search: TraceSearch, plan: string): string {
  const quoted = (text: string) => (/^[\w@%+=:,./-]+$/.test(text) ? text : `'${text.replaceAll("'", `'\\''`)}'`);
  const options: [string, string | number | undefined][] = search.probe
    ? [["probe", search.probe], ["front", search.front]]
    : [
        ["client", search.client],
        ["source", search.source],
        ["area", search.area],
        ["url", search.url],
        ["method", search.method === "GET" ? undefined : search.method],
        ...Object.entries(headersIn(search.headers)).map(([name, value]): [string, string] => ["header", `${name}: ${value}`]),
        ["session", search.session],
        ["times", search.times],
        ["vary", search.times === undefined ? undefined : search.vary],
      ];
  const at = search.drill && search.at !== undefined ? `${search.drill}@${search.at}` : undefined;
  const given = [...options, ["at", at] as const].filter(([, value]) => value !== undefined);
  return ["northgate trace", `${plan}.plan.yaml`, ...given.map(([name, value]) => `--${name} ${quoted(String(value))}`)].join(" ");
}
