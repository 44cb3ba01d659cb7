import type { DrillAnswer, Schemas } from "../../api/client";
import { decimals } from "../../kit/format";

/** Why a blind time could be between its earliest and latest: the sums that the engine gives, with their numbers. */
export function blindFormula(row: DrillAnswer["blind"][number]): string {
  const said = `${decimals(row.blind_s)} s in this run`;
  if (row.unseen) return `${said}; no probe asks about what was lost, so nobody notices`;
  if (!row.bounds) return said;
  const { earliest, latest } = row.bounds;
  const after = [rest(earliest), rest(latest)];
  const sum = after[0] === after[1] ? after[0] : after.join(" up to ");
  return `${said}; ${decimals(earliest.first_s)} to ${decimals(latest.first_s)} until a probe + ${sum}: ${decimals(row.earliest_s ?? 0)} to ${decimals(row.latest_s ?? 0)} s possible`;
}

function rest({ beats, beat_s, answer_s }: Schemas["BoundAnswer"]): string {
  return `${beats} × ${decimals(beat_s)} between probes + ${decimals(answer_s)} to give up or answer`;
}
