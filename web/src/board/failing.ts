/** What of a flow fails, as far as the board draws it. Pure. */

/** Of so small a share only the inspector tells: a connection that is reset now and then. */
const LEAST_SHARE = 1e-5;

export function failsVisibly({ rps, failed_rps }: { rps: number; failed_rps: number }): boolean {
  return failed_rps > rps * LEAST_SHARE;
}
