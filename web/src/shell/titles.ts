/** What the page is called, by its address. Pure. */
const VIEWS: [RegExp, string][] = [
  [/\/board$/, "Board"],
  [/\/trace$/, "Trace"],
  [/\/drill$/, "Drill"],
  [/\/losses$/, "Losses"],
  [/\/sizing$/, "How much is enough"],
  [/\/findings$/, "Findings"],
  [/\/compare$/, "Compare"],
  [/\/handover$/, "Hand over"],
  [/\/sheets\//, "Sheets"],
  [/\/index$/, "Index"],
  [/^\/plans$/, "Plans"],
  [/^\/start$/, "Start a plan"],
];

/** `Board · Beckwater flood watch · North Gate`. */
export function titleOf(path: string, plan: string | undefined): string {
  const view = VIEWS.find(([pattern]) => pattern.test(path))?.[1];
  return [view, plan, "North Gate"].filter(Boolean).join(" · ");
}
