import { Link } from "@tanstack/react-router";
import { Dialog } from "radix-ui";

import type { PlanHead, Schemas } from "../api/client";
import { Button } from "../kit/parts";
import { useEdit } from "../plan/edit";
import { useDifference } from "../plan/queries";

/** What has changed since the plan was agreed, in words; and agreeing on it. */
export function ChangesDialog({ head, open, onOpenChange }: { head: PlanHead; open: boolean; onOpenChange: (open: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-bar/40" />
        <Dialog.Content className="fixed top-16 left-1/2 z-40 flex max-h-[80vh] w-[min(560px,calc(100vw-16px))] -translate-x-1/2 flex-col rounded border border-line-strong bg-panel p-5 shadow-xl" aria-describedby={undefined}>
          <Changes head={head} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

const TONES: Record<Schemas["ChangeAnswer"]["effect"], string> = {
  "in place": "border-line-strong text-ink-soft",
  replace: "border-vermilion text-vermilion-text",
  added: "border-moss text-moss",
  removed: "border-ochre text-ochre-text",
};

function Changes({ head }: { head: PlanHead }) {
  const since = head.agreed ?? 1;
  const difference = useDifference({ key: head.key, revision: head.revision }, since);
  const { move } = useEdit(head.key);
  return (
    <>
      <Dialog.Title className="text-lg font-semibold">{head.agreed === null ? "Changed since the plan was taken in" : `Changed since revision ${head.agreed} was agreed`}</Dialog.Title>
      <ul className="my-3 min-h-0 flex-1 space-y-1.5 overflow-y-auto" data-testid="changes">
        {difference.data?.map((change) => (
          <li key={change.about + change.words} className="flex items-baseline justify-between gap-3">
            <span className="min-w-0">
              <b className="font-semibold">{change.about}</b>: {change.words}
            </span>
            <span className={`shrink-0 rounded border px-1.5 text-[11px] ${TONES[change.effect]}`}>{change.effect}</span>
          </li>
        ))}
        {difference.data?.length === 0 && <li className="text-ink-soft">Nothing: this is what was agreed.</li>}
      </ul>
      <span className="flex justify-end gap-2">
        <Dialog.Close asChild>
          <Link to="/plans/$key/compare" params={{ key: head.key }} search={{ change: true }} className="mr-auto flex min-h-6 items-center text-north hover:underline">Rehearse the change</Link>
        </Dialog.Close>
        <Dialog.Close asChild>
          <Button>Close</Button>
        </Dialog.Close>
        <Dialog.Close asChild>
          <Button className="border-moss text-moss" disabled={head.agreed === head.revision} onClick={() => move.mutate("agree")}>
            Agree on revision {head.revision}
          </Button>
        </Dialog.Close>
      </span>
    </>
  );
}
