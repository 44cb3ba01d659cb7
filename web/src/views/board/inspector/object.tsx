/** The inspector of whatever is no part of the board. */

import { KINDS, placeOf, type ObjectKind } from "../../../plan/names";
import { Settings, type Described, type InspectorProps } from "./shared";
import { Consequence } from "./probe";

/** What is no part of the board: its settings, and for a probe what they mean. */
export function describeObject(props: InspectorProps, kind: ObjectKind, name: string): Described {
  const found = placeOf(props.document, kind, name);
  return {
    kind: KINDS[kind].words,
    title: name,
    content: found ? (
      <>
        {kind === "probe" && <Consequence {...props} probe={name} />}
        <Settings {...props} kind={kind} name={name} />
      </>
    ) : (
      <p className="text-ink-soft">The plan has no {KINDS[kind].words} of this name any more.</p>
    ),
  };
}
