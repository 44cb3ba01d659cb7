import type { DrillAnswer } from "../../api/client";
import { decimals } from "../../kit/format";
import { sumOfBounds } from "../../plan/bounds";

/** Why a blind time could be between its earliest and latest: the sums that the engine gives, with their numbers. */
export function blindFormula(row: DrillAnswer["blind"][number]): string {
  const said = `${decimals(row.blind_s)} s in this run`;
  if (row.unseen) return `${said}; no probe asks about what was lost, so nobody notices`;
  if (!row.bounds) return said;
  return `${said}; ${sumOfBounds(row.bounds)}: ${decimals(row.bounds.earliest_s)} to ${decimals(row.bounds.latest_s)} s possible`;
}
