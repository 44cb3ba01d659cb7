import { expect, test } from "vitest";

import { hrefOf, placeAt, PLACES, readPart, readWritten, writeSearch } from "./places";

test("what is written is read as it was", () => {
  const said = { at: 30.5, select: "zone:fells-1", pairs: true, set: ["probes/ready/interval_s=2..30/2", "a&b=c"], lost: "5", url: "https://a.example/b?c=%41&d=1+1", beside: "ümläut" };
  expect(readWritten(writeSearch(said))).toEqual(said);
});

test("what is not said is not written", () => {
  expect(writeSearch({ at: undefined, drill: undefined })).toBe("");
  expect(hrefOf("/plans", undefined, undefined)).toBe("/plans");
});

test("texts are written as they are, unless they would be read as something else", () => {
  expect(writeSearch({ drill: "lose-fells", at: 0 })).toBe("?drill=lose-fells&at=0");
  expect(writeSearch({ drill: "12" })).toBe("?drill=%2212%22");
});

test("parts of a path are written so that they come back", () => {
  const href = hrefOf("/plans/:key/sheets/:sheet", { key: "50 % more/less", sheet: "machines" }, { at: 1 });
  expect(href).toBe("/plans/50%20%25%20more%2Fless/sheets/machines?at=1");
  expect(readPart("50%20%25%20more%2Fless")).toBe("50 % more/less");
  expect(readPart("50 % more")).toBe("50 % more");
});

test("every place is found by its path, and nothing else is", () => {
  for (const to of Object.keys(PLACES) as (keyof typeof PLACES)[]) expect(placeAt(hrefOf(to, { key: "a", sheet: "b" }, undefined))).toBe(to);
  expect(placeAt("/plans/a/board/")).toBe("/plans/:key/board");
  expect(placeAt("/plans/a/elsewhere")).toBeUndefined();
  expect(placeAt("/plans//board")).toBeUndefined();
});
