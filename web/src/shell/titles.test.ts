import { expect, it } from "vitest";
import { titleOf } from "./titles";

it.each([
  ["/plans/beckwater/board", "Beckwater", "Board · Beckwater · North Gate"],
  ["/plans/beckwater/sheets/pools", "Beckwater", "Sheets · Beckwater · North Gate"],
  ["/plans", undefined, "Plans · North Gate"],
  ["/", undefined, "North Gate"],
])("calls %s of %s %j", (path, plan, title) => {
  expect(titleOf(path, plan)).toBe(title);
});
