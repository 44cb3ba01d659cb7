import { describe, expect, it } from "vitest";

import { askedSecond, eventIndexAt } from "./queries";
import type { DrillAnswer } from "../api/client";
import { changeWords, pointerPart, problemAt } from "./edit";
import { ProblemError } from "../api/client";
import { formatSelection, halves, lostName, parseSelection, partOf, type Fault } from "./selection";
import { readSearch } from "./searches";

describe("the address bar", () => {
  it("keeps what is understood and drops the rest", () => {
    expect(readSearch({ drill: "d", at: "89", select: "zone:a", moment: "noticed", lost: "zone:a", other: "x" })).toEqual({
      drill: "d", at: 89, select: "zone:a", moment: "noticed", lost: "zone:a", open: undefined, only: undefined,
    });
    expect(readSearch({ at: "-5", moment: "never", drill: 7 })).toEqual({
      drill: undefined, at: undefined, select: undefined, moment: undefined, lost: undefined, open: undefined, only: undefined,
    });
  });

  it.each(["zone:fells-2", "berth:tiles/tiles-8", "front:fells-front/fells-1", "probe:ready"])("names the selection %s there and back", (text) => {
    const selection = parseSelection(text);
    expect(selection && formatSelection(selection)).toBe(text);
  });

  it.each([undefined, "", "zone", "zone:", ":a", "planet:mars"])("does not know the selection %s", (text) => {
    expect(parseSelection(text)).toBeUndefined();
  });
});

describe("what breaking a selection loses", () => {
  it.each([
    ["zone:fells-2", { zone: "fells-2" }, "fells-2"],
    ["region:fells", { region: "fells" }, "fells"],
    ["berth:tiles/tiles-8", { instance: "tiles-8" }, "tiles-8"],
    ["front:f/fells-1", { front: { balancer: "f", zone: "fells-1" } }, "the fells-1 front of f"],
    ["name:www.beckwater.example", undefined, "www.beckwater.example"],
  ])("%s", (text, part, words) => {
    const selection = parseSelection(text);
    if (!selection) throw new Error("a selection is wanted");
    expect(partOf(selection)).toEqual(part);
    expect(lostName(selection)).toBe(words);
  });

  it("nothing of what stands outside the plan, but a zone that is called so", () => {
    const outside: Fault = { kind: "zone", name: "outside" };
    expect(partOf(outside, [])).toBeUndefined();
    expect(partOf(outside, [{ name: "fells", zones: ["outside"] }])).toEqual({ zone: "outside" });
  });

  it("splits names at the first slash", () => {
    expect([halves("a/b/c"), halves("a")]).toEqual([["a", "b/c"], ["a", ""]]);
  });
});

describe("events of a drill", () => {
  const times = [0, 60, 65, 95];

  it.each([
    [0, 0],
    [59.9, 0],
    [60, 1],
    [80, 2],
    [9999, 3],
  ])("at second %d the last is number %d", (second, index) => {
    expect(eventIndexAt(times, second)).toBe(index);
  });

  it("are asked for at their own second, unless a backlog moves", () => {
    const answer = { series: { t_s: times }, moving: [false, true, false, false] } as unknown as DrillAnswer;
    expect([askedSecond(answer, 30), askedSecond(answer, 62.3), askedSecond(answer, 80)]).toEqual([0, 62.5, 65]);
  });
});

describe("edits", () => {
  it("tell what they changed in a line", () => {
    const change = { about: "probe ready", words: "every 5 s, was 10 s", effect: "in place" as const };
    expect(changeWords([])).toBe("Nothing changed");
    expect(changeWords([change])).toBe("probe ready: every 5 s, was 10 s");
    expect(changeWords([change, change, change])).toBe("probe ready: every 5 s, was 10 s and 2 more");
  });

  it("escape names in pointers", () => {
    expect([pointerPart("/ready"), pointerPart("a~b"), pointerPart(3)]).toEqual(["~1ready", "a~0b", "3"]);
  });

  it("put a problem to the field that it is about", () => {
    const error = new ProblemError({ detail: "all in all", problems: [{ where: "/a/0", message: "first" }, { where: "/b/1/c", message: "second" }] });
    expect([problemAt(error, "/b/1"), problemAt(error, "/z"), problemAt(null, "/a"), problemAt(new Error("cut off"), "/a")]).toEqual(["second", "first", undefined, "cut off"]);
  });
});
