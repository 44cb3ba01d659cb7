/** What the address bar may say of each view. Pure. */
import type { Schemas } from "../api/client";

export const MOMENTS = ["at_once", "noticed", "settled"] as const;
export type Moment = (typeof MOMENTS)[number];

/** What the address bar says of the view: everything on the board follows from it. */
export interface ViewSearch {
  drill?: string | undefined;
  at?: number | undefined;
  select?: string | undefined;
  lost?: string | undefined;
  /** Regions unfolded though there is little room. */
  open?: string | undefined;
  /** `touched`, or `client:NAME`: only the groups that the fault touches, or that the client reaches. */
  only?: string | undefined;
  moment?: Moment | undefined;
  /** Whether `lost` names what is added only now, instead of what is lost. */
  as?: "added" | undefined;
  /** The kind of object that is being added. */
  add?: string | undefined;
  /** The parts that a traced request passes, from client to target. */
  lit?: string | undefined;
}

/** Keeps what is understood of a search and drops the rest. */
export function readSearch(search: Record<string, unknown>): ViewSearch {
  const text = (value: unknown) => (typeof value === "string" && value ? value : undefined);
  const at = Number(search["at"]);
  const moment = MOMENTS.find((one) => one === search["moment"]);
  return {
    drill: text(search["drill"]),
    at: search["at"] !== undefined && Number.isFinite(at) && at >= 0 ? at : undefined,
    select: text(search["select"]),
    lost: text(search["lost"]),
    open: text(search["open"]),
    only: text(search["only"]),
    lit: text(search["lit"]),
    add: text(search["add"]),
    as: search["as"] === "added" ? "added" : undefined,
    moment,
  };
}

export const VARIES = ["connection", "kept", "source", "area"] as const;
export type Vary = (typeof VARIES)[number];

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

export const SEVERITIES: Schemas["FindingAnswer"]["severity"][] = ["stops", "risks", "advice"];

export function readFindingsSearch(search: Record<string, unknown>): { only?: Schemas["FindingAnswer"]["severity"] | undefined } {
  return { only: SEVERITIES.find((one) => one === search["only"]) };
}

export function readLossesSearch(search: Record<string, unknown>): { pairs?: true | undefined } {
  return { pairs: search["pairs"] === true || search["pairs"] === "true" ? true : undefined };
}

export const SURVIVED = ["zone", "region", "instance", "fault_domain"] as const;

/** What is asked of sizing. */
export interface SizingSearch {
  survive: (typeof SURVIVED)[number];
  below: number;
  failed?: number | undefined;
  surge?: number | undefined;
}

export function readSizingSearch(search: Record<string, unknown>): SizingSearch {
  const number = (field: string, low: number, high: number) => {
    const value = Number(search[field]);
    return search[field] !== undefined && Number.isFinite(value) && value >= low && value <= high ? value : undefined;
  };
  return { survive: SURVIVED.find((one) => one === search["survive"]) ?? "zone", below: number("below", 0.01, 1) ?? 0.85, failed: number("failed", 0, 1e15), surge: number("surge", 1, 1000) };
}

export const WAYS = ["side", "variants", "sweep", "change", "usual", "log"] as const;
export type Way = (typeof WAYS)[number];

/** With what the plan is compared, and how; of a sweep what is asked. */
export interface CompareSearch {
  way?: Exclude<Way, "side"> | undefined;
  /** An earlier revision, or another plan in its place. */
  since?: number | undefined;
  beside?: string | undefined;
  /** The steps of a change as they are to be taken: `1,0,2@90`. */
  order?: string | undefined;
  /** The second of a change at which its board is looked at. */
  at?: number | undefined;
  /** A usual change, and what was said where it asks: `from=tiles`. */
  usual?: string | undefined;
  said?: string[] | undefined;
  drill?: string | undefined;
  reading?: string | undefined;
  /** One or two settings: `probes/ready/interval_s=2..30/2`. */
  set?: string[] | undefined;
}

export function readCompareSearch(search: Record<string, unknown>): CompareSearch {
  const since = Number(search["since"]);
  const text = (field: string) => (typeof search[field] === "string" && search[field] !== "" ? search[field] : undefined);
  // Links that were made before there were ways say `change`.
  const way = WAYS.find((one) => one === (search["change"] === true ? "change" : search["way"]));
  const texts = (field: string, most: number) => {
    const given: unknown[] = Array.isArray(search[field]) ? search[field] : [];
    const found = given.filter((one) => typeof one === "string").slice(0, most);
    return found.length ? found : undefined;
  };
  const at = Number(search["at"]);
  return {
    way: way === "side" ? undefined : way,
    since: Number.isInteger(since) && since >= 1 && since < 2 ** 31 ? since : undefined,
    beside: text("beside"),
    order: text("order"),
    drill: text("drill"),
    reading: text("reading"),
    set: texts("set", 2),
    usual: text("usual"),
    said: texts("said", 10),
    at: search["at"] !== undefined && at >= 0 && at < 1e7 ? at : undefined,
  };
}
