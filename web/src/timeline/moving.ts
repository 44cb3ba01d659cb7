/** Going from event to event. Pure. */
import { eventIndexAt } from "../plan/queries";

/** The event after (or before) a second. */
export function nextEvent(times: readonly number[], second: number, by: number): number {
  const index = eventIndexAt(times, second);
  if (by < 0 && (times[index] ?? 0) < second) return index;
  return Math.min(Math.max(index + by, 0), times.length - 1);
}
