import { Redo2, Undo2 } from "lucide-react";
import { lazy, Suspense, useState } from "react";

import type { PlanHead } from "../api/client";
import { Button } from "../kit/parts";
import { useKey } from "../kit/keys";
import { useEdit } from "../plan/edit";

/** Undo and redo, over reloads and through the whole history. */
export function UndoRedo({ head }: { head: PlanHead }) {
  const { move } = useEdit(head.key);
  const { mutate } = move;
  useKey("undo", () => head.can_undo && mutate("undo"));
  useKey("redo", () => head.can_redo && mutate("redo"));
  useKey("redoToo", () => head.can_redo && mutate("redo"));
  return (
    <span className="flex gap-1">
      <Button tone="bar" className="px-1.5 disabled:opacity-40" aria-label="Undo (Ctrl+Z)" title="Undo (Ctrl+Z)" disabled={!head.can_undo || move.isPending} onClick={() => mutate("undo")}>
        <Undo2 size={14} />
      </Button>
      <Button tone="bar" className="px-1.5 disabled:opacity-40" aria-label="Redo (Ctrl+Shift+Z)" title="Redo (Ctrl+Shift+Z)" disabled={!head.can_redo || move.isPending} onClick={() => mutate("redo")}>
        <Redo2 size={14} />
      </Button>
    </span>
  );
}

/** How the plan stands to the agreed revision; opens what has changed since, in words. */
export function StandingPill({ head }: { head: PlanHead }) {
  const [open, setOpen] = useState<boolean>();
  const agreed = head.agreed === head.revision;
  const words = agreed ? "agreed" : head.edits === 0 ? "draft" : `draft · ${head.edits} ${head.edits === 1 ? "edit" : "edits"}`;
  return (
    <>
      <button type="button" className="min-h-6 shrink-0 rounded-full border border-bar-soft/60 px-2.5 text-[11px] hover:border-bar-ink" data-testid="standing" aria-haspopup="dialog" onClick={() => setOpen(true)}>
        {words}
      </button>
      {open !== undefined && (
        <Suspense>
          <ChangesDialog head={head} open={open} onOpenChange={setOpen} />
        </Suspense>
      )}
    </>
  );
}

const ChangesDialog = lazy(async () => ({ default: (await import("./changes-dialog")).ChangesDialog }));
