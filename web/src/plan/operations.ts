/** Operations of a JSON Patch (RFC 6902). Pure. */

import type { Schemas } from "../api/client";

export type Operation = Schemas["PatchOperation"];

/** One operation that sets a value, whether it was there or not. */
export function setting(path: string, value: unknown): Operation {
  return { op: "replace", path, value };
}

export function adding(path: string, value: unknown): Operation {
  return { op: "add", path, value };
}

export function removing(path: string): Operation {
  return { op: "remove", path };
}

/** Escapes a part of a JSON Pointer (RFC 6901). */
export function pointerPart(part: string | number): string {
  return String(part).replaceAll("~", "~0").replaceAll("/", "~1");
}
