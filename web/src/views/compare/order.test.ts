import { describe, expect, it } from "vitest";

import { mayMove, moved, neededWords, readOrder, timed, writeOrder } from "./order";

describe("the order of a change", () => {
  it("is read as it is written, and is the usual one where it is none", () => {
    const order = [{ step: 1, at_s: undefined }, { step: 0, at_s: 90 }];
    expect(readOrder(writeOrder(order), 2)).toEqual(order);
    for (const none of [undefined, "", "0", "0,0", "0,2", "x,1"]) expect(writeOrder(readOrder(none, 2))).toBeUndefined();
  });

  it("takes a step earlier, later, or at its second", () => {
    const usual = readOrder(undefined, 3);
    expect(writeOrder(moved(usual, 2, -1))).toBe("0,2,1");
    expect(writeOrder(moved(usual, 2, 1))).toBeUndefined();
    expect(writeOrder(timed(usual, 1, 30))).toBe("0,1@30,2");
    expect(writeOrder(timed(timed(usual, 1, 30), 1, undefined))).toBeUndefined();
  });

  it("never goes past what a step needs", () => {
    const steps = [{ needs: [] }, { needs: [0] }, { needs: [] }];
    expect([mayMove(steps, 1, -1), mayMove(steps, 0, 1), mayMove(steps, 2, -1), mayMove(steps, 1, 1), mayMove(steps, 0, -1), mayMove(steps, 2, 1)]).toEqual([false, false, true, true, false, false]);
  });

  it("tells what a step needs, a row of steps by its ends", () => {
    expect([[], [1], [1, 0], [2, 3, 5, 6, 7, 8], [0, 1, 2]].map(neededWords)).toEqual(["", "2", "1, 2", "3, 4, 6 to 9", "1 to 3"]);
  });
});
