/** The request as it stands in the address bar, and as the form edits it. Pure. */

import type { PlanDocument, Schemas } from "../../api/client";
import type { TraceSearch, Vary } from "../../plan/searches";

export const VARY_WORDS: Record<Vary, string> = {
  connection: "new connection each",
  kept: "one connection",
  source: "new source each",
  area: "every area in turn",
};

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
