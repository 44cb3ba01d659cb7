/** What the address bar may say of findings and losses. Pure. */
import type { Schemas } from "../api/client";

export const SEVERITIES: Schemas["FindingAnswer"]["severity"][] = ["stops", "risks", "advice"];

export function readFindingsSearch(search: Record<string, unknown>): { only?: Schemas["FindingAnswer"]["severity"] | undefined } {
  return { only: SEVERITIES.find((one) => one === search["only"]) };
}

export function readLossesSearch(search: Record<string, unknown>): { pairs?: true | undefined } {
  return { pairs: search["pairs"] === true || search["pairs"] === "true" ? true : undefined };
}
