/** What cells of a table say, as values of a plan, and back. Pure. */

import type { Schemas } from "../api/client";

/** A number where the text is one; else the text, for the server to refuse with a reason. */
export function numberIn(cell: string): unknown {
  const trimmed = cell.trim().replace(",", ".");
  if (trimmed === "") return null;
  return Number.isFinite(Number(trimmed)) ? Number(trimmed) : cell.trim();
}

/** `http 8080, tcp 9000` as services; a lone port serves http. */
export function servicesIn(cell: string): { port: unknown; protocol: string }[] {
  return cell
    .split(/[,;]+/)
    .map((one) => one.trim())
    .filter(Boolean)
    .map((one) => {
      const [first = "", second] = one.split(/[\s:]+/);
      return second === undefined ? { port: numberIn(first), protocol: "http" } : { port: numberIn(second), protocol: first };
    });
}

/** Services as a cell says them. */
export function servicesText(serves: Schemas["Service"][] | undefined): string {
  return (serves ?? []).map((one) => `${one.protocol} ${one.port}`).join(", ");
}
