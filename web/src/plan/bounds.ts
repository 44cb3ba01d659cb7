import type { Schemas } from "../api/client";
import { decimals } from "../kit/format";

/** Of what the bounds of a blind time are sums, with the engine's numbers. */
export function sumOfBounds({ earliest, latest }: Schemas["BoundsAnswer"]): string {
  const after = [rest(earliest), rest(latest)];
  const sum = after[0] === after[1] ? after[0] : after.join(" up to ");
  return `${decimals(earliest.first_s)} to ${decimals(latest.first_s)} until a probe + ${sum}`;
}

function rest({ beats, beat_s, answer_s }: Schemas["BoundAnswer"]): string {
  return `${beats} × ${decimals(beat_s)} between probes + ${decimals(answer_s)} to give up or answer`;
}
