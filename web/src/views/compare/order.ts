/** The order in which the steps of a change are to be taken: their usual numbers, each with its second where that is set. Pure. */
export interface Place {
  step: number;
  at_s?: number | undefined;
}

/** As the address bar has it: `1,0,2@90`; of so many steps, the usual order where it is none of them. */
export function readOrder(text: string | undefined, count: number): Place[] {
  const usual = Array.from({ length: count }, (_, step): Place => ({ step }));
  const made = (text ?? "").split(",").map((one): Place => {
    const [step, at] = one.split("@");
    return { step: step ? Number(step) : NaN, at_s: at === undefined ? undefined : Number(at) };
  });
  const numbers = new Set(made.map(({ step }) => step));
  return made.length === count && usual.every(({ step }) => numbers.has(step)) ? made : usual;
}

/** The order as text; nothing where it is the usual one. */
export function writeOrder(order: Place[]): string | undefined {
  if (order.every((one, place) => one.step === place && one.at_s === undefined)) return undefined;
  return order.map(({ step, at_s: at }) => (at === undefined ? String(step) : `${step}@${at}`)).join(",");
}

/** The order with one step taken earlier (-1) or later (1). */
export function moved(order: Place[], place: number, by: -1 | 1): Place[] {
  const made = [...order];
  const [here, there] = [made[place], made[place + by]];
  if (!here || !there) return made;
  made[place] = there;
  made[place + by] = here;
  return made;
}

/** Whether a step may go before, or after, its neighbour: not past one that it needs, or that needs it. */
export function mayMove(steps: { needs: number[] }[], place: number, by: -1 | 1): boolean {
  const other = place + by;
  if (other < 0 || other >= steps.length) return false;
  return !steps[by < 0 ? place : other]?.needs.includes(by < 0 ? other : place);
}

/** The order with a step at a second of its own, or as soon as the one before has settled. */
export function timed(order: Place[], place: number, at: number | undefined): Place[] {
  return order.map((one, at_) => (at_ === place ? { step: one.step, at_s: at } : one));
}

/** Steps that another needs, counted from 1, three or more in a row as `6 to 9`. */
export function neededWords(needs: number[]): string {
  const rows: number[][] = [];
  for (const step of [...needs].sort((a, b) => a - b)) {
    const last = rows.at(-1);
    if (last?.at(-1) === step - 1) last.push(step);
    else rows.push([step]);
  }
  const words = rows.map((row) => {
    const numbers = row.map((step) => step + 1);
    return row.length > 2 ? `${numbers[0]} to ${numbers.at(-1)}` : numbers.join(", ");
  });
  return words.join(", ");
}
