/** Something that is being added: the panel that asks for it, and the board as it would be. */
import type { ReactNode } from "react";
import type { BoardState, PlanDocument } from "../../../api/client";
import type { Schema } from "../../../form/schema";
import { useEdit } from "../../../plan/edit";
import { expandedGroup, isSmall, type Looking } from "../../../plan/moment";
import type { Asked } from "../../../plan/queries";
import type { Selection } from "../../../plan/selection";
import { useDraft, useDraftPreview } from "./draft";
import { wordsOf, type AddKind } from "./kinds";
import { AddPanel } from "./panel";

/** What stands beside the board; and what the board shows instead of the plan as it is. */
export interface Pictured {
  side: ReactNode;
  document?: PlanDocument | undefined;
  state?: BoardState | undefined;
  selection?: Selection;
  looking?: Looking;
}

interface AddingProps {
  planKey: string;
  asked: Asked;
  document: PlanDocument;
  root: Schema;
  kind: AddKind;
  onKind: (kind: AddKind) => void;
  onAdded: (selection: Selection) => void;
  onLeave: () => void;
  picture: (pictured: Pictured) => ReactNode;
}

export function Adding({ planKey, asked, document, root, kind, onKind, onAdded, onLeave, picture }: AddingProps) {
  const draft = useDraft(document, root, kind);
  const { edit } = useEdit(planKey);
  const group = expandedGroup(draft.selection);
  const preview = useDraftPreview(asked, draft, isSmall(document) ? undefined : group ? [group] : []);
  const good = preview.isPlaceholderData || preview.isError ? undefined : preview.data;
  const side = (
    <AddPanel
      root={root}
      draft={draft}
      preview={good}
      error={edit.error ?? preview.error}
      busy={edit.isPending}
      onKind={onKind}
      onAdd={() => edit.mutate(draft.patch, { onSuccess: () => onAdded(draft.selection) })}
      onLeave={onLeave}
    />
  );
  // Until the next answer is here, the board keeps the last one: it would flicker otherwise.
  const seen = preview.data?.state ? preview.data : undefined;
  return picture({
    side,
    document: seen?.document,
    state: seen?.state ?? undefined,
    selection: draft.selection,
    looking: { mode: "adding", words: `${wordsOf(kind)} ${String(draft.value["name"])}` },
  });
}
