import { describe, expect, it } from "vitest";

import { amount, clock, counted, percent, perSecond, seconds, secondsRange, sentence, span, written } from "./format";

describe("a value of a plan as it is written", () => {
  it.each([
    [null, ""],
    [undefined, ""],
    ["a name", "a name"],
    [443, "443"],
    [false, "false"],
    [{ from: 1, to: 2 }, '{"from":1,"to":2}'],
  ])("%j", (value, text) => {
    expect(written(value)).toBe(text);
  });
});

describe("numbers as a person reads them", () => {
  it.each([
    [0, "0"],
    [4, "4"],
    [4.26, "4.3"],
    [0.049, "0.05"],
    [0.00074, "0.0007"],
    [0.00000002, "<0.0001"],
    [12.6, "13"],
    [1136.4, "1,136"],
    [2457000, "2,457,000"],
  ])("amount %d", (value, text) => {
    expect(amount(value)).toBe(text);
    expect(perSecond(value)).toBe(`${text}/s`);
  });

  it.each([
    [0, "0 %"],
    [0.0031, "0.3 %"],
    [0.0001, "<0.1 %"],
    [0.086, "8.6 %"],
    [0.8867, "89 %"],
    [2, "200 %"],
  ])("share %d", (value, text) => {
    expect(percent(value)).toBe(text);
  });

  it("keeps seconds short, to the hundredth", () => {
    expect([35, 29.999, 12.345].map(seconds)).toEqual(["35 s", "30 s", "12.35 s"]);
    expect(secondsRange(25, 35)).toBe("25–35 s");
  });

  it.each([
    [0, "0:00"],
    [89, "1:29"],
    [89.96, "1:30"],
    [64.5, "1:04.5"],
    [3600, "60:00"],
  ])("second %d on the drill's clock", (value, text) => {
    expect(clock(value)).toBe(text);
  });

  it.each([
    [0, "0 s"],
    [29, "29 s"],
    [33.33, "33.3 s"],
    [60, "1 min"],
    [89, "1 min 29 s"],
    [406.7, "6 min 47 s"],
    [900, "15 min"],
  ])("a span of %d seconds", (value, text) => {
    expect(span(value)).toBe(text);
  });

  it("has a word for one and for many", () => {
    expect([counted(1, "drill"), counted(2, "drill"), counted(0, "zone")]).toEqual(["1 drill", "2 drills", "0 zones"]);
  });
});

describe("a sentence", () => {
  it.each([
    ["nothing uses pool web-coast", "web-coast", "Nothing uses pool web-coast."],
    ["why is `any` left open?", "edge", "Why is any left open?"],
    ["gauges.beckwater.example answers nothing", "gauges.beckwater.example", "gauges.beckwater.example answers nothing."],
    ["edge: all may come in", "edge", "edge: all may come in."],
    ["tiles-next has one target", "web", "tiles-next has one target."],
  ])("%s", (text, about, whole) => {
    expect(sentence(text, about)).toBe(whole);
  });

  it("is none on a button", () => {
    expect(sentence("remove it", "web", false)).toBe("Remove it");
  });
});
