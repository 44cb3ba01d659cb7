import { describe, expect, it } from "vitest";

import { fits, HELP, isForField, KEYS } from "./keys";

const press = (more: object = {}) => ({ ctrlKey: false, metaKey: false, altKey: false, shiftKey: false, ...more });

describe("keys", () => {
  it.each([
    ["breakIt", press(), true],
    ["breakIt", press({ ctrlKey: true }), false],
    ["breakIt", press({ shiftKey: true }), false],
    ["help", press({ shiftKey: true }), true],
    ["help", press({ altKey: true }), false],
    ["undo", press({ ctrlKey: true }), true],
    ["undo", press({ metaKey: true }), true],
    ["undo", press({ ctrlKey: true, shiftKey: true }), false],
    ["redo", press({ ctrlKey: true, shiftKey: true }), true],
    ["undo", press(), false],
  ] as const)("%s with %j: %s", (name, event, wanted) => {
    expect(fits(event, KEYS[name])).toBe(wanted);
  });

  it.each([
    ["find", "input", true],
    ["find", "select", false],
    ["breakIt", "select", true],
    ["breakIt", "button", false],
  ] as const)("%s with the focus on %s is for the field: %s", (name, tag, wanted) => {
    const target = { matches: (selector: string) => selector.split(/[ ,:]+/).includes(tag) };
    expect(isForField(target, KEYS[name])).toBe(wanted);
  });

  it("are all told in the help", () => {
    const told = HELP.map(([key]) => key.toLowerCase().replace("esc", "escape")).join(" ");
    for (const [name, { key }] of Object.entries(KEYS)) if (name !== "redoToo") expect(told).toContain(key);
  });
});
