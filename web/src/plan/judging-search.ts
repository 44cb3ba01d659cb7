/** What the address bar may say of findings and losses. Pure. */
import type { Schemas } from "../api/client";

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

/** Which earlier revision is compared with, and how: side by side, or the way between them. */
export interface CompareSearch {
  since?: number | undefined;
  change?: true | undefined;
}

export function readCompareSearch(search: Record<string, unknown>): CompareSearch {
  const since = Number(search["since"]);
  return { since: Number.isInteger(since) && since >= 1 && since < 2 ** 31 ? since : undefined, change: search["change"] === true ? true : undefined };
}
