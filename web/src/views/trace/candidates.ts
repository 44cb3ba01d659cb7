/** Candidates of a hop, those that stand alike told together. Pure. */

import type { Schemas } from "../../api/client";

export type Candidate = Schemas["Candidate"];

export interface CandidateRow {
  names: string[];
  first: Candidate;
  /** Believed in use though it does not answer, or out though it does. */
  wrong: boolean;
}

const GOOD = new Set(["answers", "slow", "living"]);

export function isWrong(one: Candidate): boolean {
  if (one.belief !== "in use" && one.belief !== "out") return false;
  if (one.truth === null || one.truth === undefined) return false;
  return GOOD.has(one.truth) !== (one.belief === "in use");
}

/** `tiles-7 … tiles-12`, `tiles-1`, or `tiles-7, tiles-9`. */
export function namesTogether(names: string[]): string {
  if (names.length <= 2) return names.join(", ");
  return `${names[0] ?? ""} … ${names.at(-1) ?? ""}`;
}

function alike(one: Candidate, other: Candidate): boolean {
  const same = one.zone === other.zone && one.truth === other.truth && one.belief === other.belief;
  const reason = withoutTimes(one.excluded) === withoutTimes(other.excluded) && withoutTimes(one.note) === withoutTimes(other.note);
  return same && reason && !one.chosen && !other.chosen && Math.abs(one.share - other.share) < 1e-9;
}

/** The reason without its seconds: neighbours that were noticed one after the other stand together. */
function withoutTimes(text: string | null | undefined): string {
  return (text ?? "").replaceAll(/\d[\d.,:e-]*/g, "#");
}

/** Neighbours that stand alike in one row; the chosen one always has its own. */
export function candidateRows(candidates: readonly Candidate[]): CandidateRow[] {
  const rows: CandidateRow[] = [];
  for (const one of candidates) {
    const last = rows.at(-1);
    if (last && alike(last.first, one)) last.names.push(one.name);
    else rows.push({ names: [one.name], first: one, wrong: isWrong(one) });
  }
  return rows;
}

/** Answers of a series by zone: how many, against how many were expected; failing ones apart. */
export interface ZoneCount {
  zone: string;
  failing: boolean;
  count: number;
  expected: number;
}

export function countsByZone(expected: readonly Schemas["Expected"][], sent: number): ZoneCount[] {
  const counts = new Map<string, ZoneCount>();
  for (const one of expected) {
    const zone = one.zone ?? one.answer;
    const failing = one.error !== null;
    const key = `${zone} ${failing}`;
    const entry = counts.get(key) ?? { zone, failing, count: 0, expected: 0 };
    counts.set(key, { ...entry, count: entry.count + one.count, expected: entry.expected + one.expected_share * sent });
  }
  return [...counts.values()].sort((a, b) => Number(a.failing) - Number(b.failing) || a.zone.localeCompare(b.zone));
}

// Where a request goes on after a failure: a repeat of the call, the next address, another target.
const GOES_ON = ["repeat", "next", "target"];

/** Whether the way has failed before a hop, and has not gone on since. */
export function failedBefore(hops: readonly Schemas["Hop"][], index: number): boolean {
  const failed = hops.slice(0, index).findLastIndex((hop) => !hop.ok);
  return failed >= 0 && !hops.slice(failed + 1, index + 1).some((hop) => GOES_ON.includes(hop.kind));
}

/** The parts of the board that a trace passes, from client to target. */
export function litParts(trace: Schemas["TraceAnswer"], client: string | undefined): string[] {
  const links = trace.hops.map((hop) => hop.link).filter((link) => link !== null && link !== undefined);
  const shown = links.filter((link) => /^(name|front|berth):/.test(link));
  return [...(client ? [`client:${client}`] : []), ...shown.filter((link, index) => link !== shown[index - 1])];
}

/** Which answers each area got, when areas take turns: the answers in the order in which they first came, with how often. */
export function answersByArea(trace: Pick<Schemas["TraceAnswer"], "sequence" | "expected">, areas: readonly string[]): { area: string; answers: { answer: string; zone: string | null; error: string | null; count: number }[] }[] {
  return areas.map((area, place) => {
    const answers = new Map<number, number>();
    for (const [number, one] of trace.sequence.entries()) if (number % areas.length === place) answers.set(one, (answers.get(one) ?? 0) + 1);
    return {
      area,
      answers: [...answers].flatMap(([one, count]) => {
        const found = trace.expected[one];
        return found ? [{ answer: found.answer, zone: found.zone, error: found.error, count }] : [];
      }),
    };
  });
}
