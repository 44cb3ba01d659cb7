import createClient from "openapi-fetch";

import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type BoardState = Schemas["BoardState"];
export type BerthState = Schemas["BerthState"];
export type DrillAnswer = Schemas["DrillAnswer"];
export type Part = Schemas["Part"];
export type PlanDocument = Schemas["Plan"];
export type PlanHead = Schemas["PlanHead"];
export type PlanWhole = Schemas["PlanWhole"];
export type ProbeConsequence = Schemas["ProbeConsequence"];
export type Strip = Schemas["Strip"];
export type FoldedStrip = Schemas["FoldedStrip"];
export type PhasesRun = Schemas["PhasesAnswer"];
export type WhatIfAnswer = Schemas["WhatIfAnswer"];

export const api = createClient<paths>({ baseUrl: "/" });

/** An answer of the server that is a problem (RFC 9457), with the places it names. */
export class ProblemError extends Error {
  readonly title: string;
  readonly problems: Schemas["PlaceProblem"][];
  /** The edit that was refused, with all that has to change along with it. */
  readonly together: Schemas["Together"] | undefined;

  constructor(problem: Partial<Schemas["ProblemDetails"]>) {
    super(problem.detail ?? "The server did not answer.");
    this.title = problem.title ?? "Something went wrong";
    this.problems = problem.problems ?? [];
    this.together = problem.together ?? undefined;
  }
}

/** The data of an answer; throws a `ProblemError` when it is a problem. */
export function dataOf<T>(answer: { data?: T; error?: unknown }): T {
  if (answer.data === undefined) throw new ProblemError((answer.error ?? {}));
  return answer.data;
}

/** A plan file as the body of a request: it goes as it is, not as JSON of a text. */
export function fileBody(text: string) {
  return { body: text as never, bodySerializer: (body: unknown) => String(body), headers: { "content-type": "text/plain" } };
}
