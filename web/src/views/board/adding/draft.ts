/** Something new while it is being made: it stands in a draft of the plan, and the server tells what that would be. */
import { applyPatch, type Operation as AnyOperation } from "fast-json-patch";
import { useMemo, useState } from "react";

import type { PlanDocument, Schemas } from "../../../api/client";
import { filled, resolve, type Schema } from "../../../form/schema";
import { adding, setting, type Operation } from "../../../plan/operations";
import { usePreview, type Asked } from "../../../plan/queries";
import { KINDS, valueAt } from "../../../plan/names";
import type { Selection } from "../../../plan/selection";
import type { AddKind } from "./kinds";
import { following, proposed } from "./proposed";

export interface Draft {
  kind: AddKind;
  /** The balancer to which a listener is added. */
  home: string | undefined;
  /** Where it stands in the draft. */
  path: string;
  value: Record<string, unknown>;
  /** The plan with it. */
  document: PlanDocument;
  patch: Operation[];
  selection: Selection;
  change: (patch: Operation[]) => void;
  takeHome: (balancer: string) => void;
}

/** The plan with a patch; the plan itself stays as it is. */
export function patchedDocument(document: PlanDocument, patch: Operation[]): PlanDocument {
  return applyPatch(structuredClone(document), patch as AnyOperation[]).newDocument;
}

/** What has to change along with an edit of something new: the layer decides what listeners speak, and a listener that is called as it speaks goes on being so. */
export function alongside(value: Record<string, unknown>, path: string, patch: Operation[]): Operation[] {
  const layer = patch.find((one) => one.path === `${path}/layer`)?.value;
  const listeners = (value["listeners"] ?? []) as { name: string; protocol: string }[];
  const fits = layer === 4 ? ["tcp", "tls", "udp"] : ["http", "https"];
  const spoken = listeners.map((one, index) => {
    const asked = patch.find((other) => other.path === `${path}/listeners/${index}/protocol`)?.value as string | undefined;
    return asked ?? (layer === undefined || fits.includes(one.protocol) ? one.protocol : (fits[0] ?? one.protocol));
  });
  const more = listeners.flatMap((one, index) => {
    const now = spoken[index];
    if (now === one.protocol) return [];
    const renamed = one.name === one.protocol ? [setting(`${path}/listeners/${index}/name`, now)] : [];
    return [setting(`${path}/listeners/${index}/protocol`, now), ...renamed];
  });
  return [...patch, ...more];
}

/** What is being made, with all that is as by default. */
function whole(root: Schema, kind: AddKind, { path, value }: ReturnType<typeof proposed>): ReturnType<typeof proposed> {
  const schema = resolve(root, { $ref: `#/$defs/${kind === "listener" ? "Listener" : KINDS[kind].definition}` });
  return { path, value: filled(root, schema, value) as Record<string, unknown> };
}

/** What is being added to a plan, from the proposal on. */
export function useDraft(document: PlanDocument, root: Schema, kind: AddKind): Draft {
  const [home, setHome] = useState(document.balancers[0]?.name);
  const [begun, setBegun] = useState(() => whole(root, kind, proposed(document, root, kind, home)));
  const { path, value } = begun;
  const patch = useMemo(() => [adding(path, value), ...following(document, kind, String(value["name"]))], [document, kind, path, value]);
  const draft = useMemo(() => patchedDocument(document, patch), [document, patch]);
  const name = String(value["name"]);
  return {
    kind,
    home,
    path,
    value,
    document: draft,
    patch,
    selection: kind === "listener" ? { kind, name: `${home}/${name}` } : { kind, name },
    change: (edit) => {
      const made = valueAt(patchedDocument(draft, alongside(value, path, edit)), path);
      setBegun(whole(root, kind, { path, value: made as Record<string, unknown> }));
    },
    takeHome: (balancer) => {
      setHome(balancer);
      setBegun(whole(root, kind, proposed(document, root, kind, balancer)));
    },
  };
}

export type Preview = Schemas["Preview"];

/** What the plan would be with the draft: undefined while that is on its way or refused. */
export function useDraftPreview(asked: Asked, draft: Draft, groups: string[] | undefined) {
  return usePreview(asked, draft.patch, groups);
}
