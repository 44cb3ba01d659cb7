import { describe, expect, it } from "vitest";

import { listText, readRows, underColumns, unknownColumns, wordsIn, writeCsv } from "./rows";

describe("rows of text", () => {
  it.each([
    ["a\tb\n1\t2\n", [["a", "b"], ["1", "2"]]],
    ["a,b\r\n1,2", [["a", "b"], ["1", "2"]]],
    ["a;b\n1;2", [["a", "b"], ["1", "2"]]],
    ['a,b\n"x, y","say ""so"""\n', [["a", "b"], ["x, y", 'say "so"']]],
    ['a\tb\n"two\nlines"\t2', [["a", "b"], ["two\nlines", "2"]]],
    ["\n\n a , b \n\n", [["a", "b"]]],
    ["", []],
  ])("are read from %j", (text, rows) => {
    expect(readRows(text)).toEqual(rows);
  });

  it("come back as they went out", () => {
    const rows = [["name", "note"], ["a", 'with "quotes", commas'], ["b", "two\nlines"], ["c", "-5"], ["d", "'plain"]];
    expect(readRows(writeCsv(rows))).toEqual(rows);
  });

  it.each(["=1+1", "+cmd", "-cmd|x", "@SUM(A1)"])("never hand a spreadsheet the formula %j", (cell) => {
    const written = writeCsv([[cell]]);
    expect(written.replace('"', "").startsWith("'")).toBe(true);
    expect(readRows(written)).toEqual([[cell]]);
  });

  it("stand under the columns of their header, in any order and spelling", () => {
    const rows = [["Zone", "Capacity RPS", "what"], ["fells-1", "5", "x"]];
    expect(underColumns(rows, ["name", "zone", "capacity_rps"])).toEqual([{ zone: "fells-1", capacity_rps: "5" }]);
  });

  it.each([
    [[["Zone", "colour", "", "what"], ["fells-1", "red", "", "x"]], ["colour", "what"]],
    [[["fells-1", "red"]], []],
    [[], []],
  ])("tell which columns of a header are not known: %j", (rows, unknown) => {
    expect(unknownColumns(rows, ["name", "zone"])).toEqual(unknown);
  });

  it("stand under the columns in order when there is no header", () => {
    expect(underColumns([["a", "fells-1"]], ["name", "zone"])).toEqual([{ name: "a", zone: "fells-1" }]);
  });

  it.each([
    ["Mozilla/5.0 (X11), curl", ["Mozilla/5.0 (X11)", "curl"]],
    ["80, 443", ["80", "443"]],
    ["a,b,,", ["a", "b"]],
    ['"one, with a comma", two', ["one, with a comma", "two"]],
    ["first\nsecond", ["first", "second"]],
    ["", []],
  ])("hold lists of words: %j", (text, words) => {
    expect(wordsIn(text)).toEqual(words);
    expect(wordsIn(listText(words))).toEqual(words);
  });
});
