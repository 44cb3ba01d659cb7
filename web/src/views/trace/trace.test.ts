import { describe, expect, it } from "vitest";

import type { PlanDocument, Schemas } from "../../api/client";
import { answersByArea, candidateRows, countsByZone, failedBefore, isWrong, litParts, namesTogether, type Candidate } from "./candidates";
import { commandFor, filledIn, headersIn, questionFor } from "./question";
import { readTraceSearch } from "../../plan/searches";

function candidate(name: string, more: Partial<Candidate> = {}): Candidate {
  return { name, zone: "fells-1", chosen: false, share: 0.1, excluded: null, truth: "answers", belief: "in use", note: null, ...more };
}

describe("candidates", () => {
  it("stand together while they are alike, the chosen one alone", () => {
    const out = { share: 0, belief: "out", truth: "silent" };
    const rows = candidateRows([
      candidate("tiles-1"),
      candidate("tiles-2"),
      candidate("tiles-3", { chosen: true }),
      candidate("tiles-4", { ...out, excluded: "3 probes failed: out since 1:25" }),
      candidate("tiles-5", { ...out, excluded: "3 probes failed: out since 1:27" }),
      candidate("tiles-6", { ...out, excluded: "weight 0" }),
    ]);
    expect(rows.map((row) => row.names)).toEqual([["tiles-1", "tiles-2"], ["tiles-3"], ["tiles-4", "tiles-5"], ["tiles-6"]]);
  });

  it.each([
    [{ truth: "silent", belief: "in use" }, true],
    [{ truth: "silent", belief: "out" }, false],
    [{ truth: "answers", belief: "out" }, true],
    [{ truth: null, belief: "in use" }, false],
    [{ truth: "slow", belief: "in use" }, false],
  ])("%o is a wrong belief: %s", (state, wrong) => {
    expect(isWrong(candidate("tiles-1", state))).toBe(wrong);
  });

  it("are named from the first to the last", () => {
    expect([["a"], ["a", "b"], ["a", "b", "c"]].map(namesTogether)).toEqual(["a", "a, b", "a … c"]);
  });
});

describe("a way that fails and goes on", () => {
  it("has failed until another target, address or attempt follows", () => {
    const hops = [["address", true], ["target", false], ["service", false], ["target", true], ["service", true]].map(([kind, ok]) => ({ kind, ok })) as unknown as Schemas["Hop"][];
    expect(hops.map((_, index) => failedBefore(hops, index))).toEqual([false, false, true, false, false]);
    const again = [["address", false], ["next", true], ["address", true]].map(([kind, ok]) => ({ kind, ok })) as unknown as Schemas["Hop"][];
    expect(again.map((_, index) => failedBefore(again, index))).toEqual([false, false, false]);
  });
});

describe("answers of many requests", () => {
  it("are counted by zone, failing ones apart", () => {
    const row = (answer: string, zone: string | null, error: string | null, count: number, expected_share: number) => ({ answer, zone, error, cause: error, count, expected_share });
    expect(countsByZone([row("t-1", "fells-2", null, 3, 0.3), row("t-2", "fells-2", null, 4, 0.3), row("t-3", "fells-1", "timed_out", 3, 0.4)], 10)).toEqual([
      { zone: "fells-2", failing: false, count: 7, expected: 6 },
      { zone: "fells-1", failing: true, count: 3, expected: 4 },
    ]);
  });

  it("are told by area when areas take turns", () => {
    const row = (answer: string, zone: string) => ({ answer, zone, error: null, cause: null, count: 0, expected_share: 0 });
    const expected = [row("t-1", "fells-1"), row("c-1", "coast-1")];
    expect(answersByArea({ expected, sequence: [0, 1, 0, 1, 1] }, ["uplands", "overseas"])).toEqual([
      { area: "uplands", answers: [{ answer: "t-1", zone: "fells-1", error: null, count: 2 }, { answer: "c-1", zone: "coast-1", error: null, count: 1 }] },
      { area: "overseas", answers: [{ answer: "c-1", zone: "coast-1", error: null, count: 2 }] },
    ]);
  });

  it("light the parts that one passes, each once", () => {
    const hops = ["name:a.example", null, "front:f/fells-1", "listener:f/https", "berth:tiles/tiles-1", "instance:tiles-1"].map((link) => ({ link }));
    expect(litParts({ hops } as unknown as Schemas["TraceAnswer"], "walkers")).toEqual(["client:walkers", "name:a.example", "front:f/fells-1", "berth:tiles/tiles-1"]);
  });
});

describe("a traced request in the address bar", () => {
  const document = { clients: [{ name: "walkers", rps: 1, calls: [{ url: "https://a.example/1" }] }] } as unknown as PlanDocument;

  it("keeps what is understood", () => {
    expect(readTraceSearch({ client: "walkers", times: 100, vary: "source", at: 89, session: "kept", show: 7 })).toMatchObject({ client: "walkers", times: 100, vary: "source", at: 89, session: "kept", show: 7 });
    expect(Object.values(readTraceSearch({ times: 7, vary: "colour", at: -1, session: "x", show: 0 })).every((value) => value === undefined)).toBe(true);
  });

  it("is filled in from the plan", () => {
    expect(filledIn({}, document)).toMatchObject({ client: "walkers", url: "https://a.example/1" });
    expect(filledIn({ source: "192.0.2.1" }, document)).toMatchObject({ client: undefined, url: "https://a.example/1" });
    expect(filledIn({ probe: "tiles/tiles-1" }, document)).toEqual({ probe: "tiles/tiles-1" });
  });

  it("becomes a question", () => {
    expect(questionFor({})).toBeUndefined();
    expect(questionFor({ url: "https://a.example/", drill: "d", at: 5, times: 10, show: 3 })).toMatchObject({ drill: "d", at_s: 5, times: 10, show: 2 });
    expect(questionFor({ probe: "tiles/tiles-1", front: "f/fells-1" })).toMatchObject({ probe_group: "tiles", probe_target: "tiles-1", probe_front: "f/fells-1" });
    expect(headersIn("x-canary: 1\nnothing\n : x\nhost: a:80")).toEqual({ "x-canary": "1", host: "a:80" });
  });

  it("is a command too", () => {
    expect(commandFor({ client: "walkers", url: "https://a.example/1?v=2&x", times: 20, vary: "area", drill: "d", at: 5, headers: "x: it's" }, "p")).toBe(
      "northgate trace p.plan.yaml --client walkers --url 'https://a.example/1?v=2&x' --header 'x: it'\\''s' --times 20 --vary area --at d@5",
    );
    expect(commandFor({ probe: "tiles/tiles-1", front: "f/fells-1" }, "p")).toBe("northgate trace p.plan.yaml --probe tiles/tiles-1 --front f/fells-1");
  });
});
