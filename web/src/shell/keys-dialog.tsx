import { X } from "lucide-react";
import { Dialog } from "radix-ui";

import { HELP } from "../kit/keys";
import { IconButton } from "../kit/parts";

/** All keys, and what they do. */
export function KeysDialog({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-bar/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-40 w-[min(384px,calc(100vw-16px))] max-h-[92vh] overflow-y-auto -translate-x-1/2 -translate-y-1/2 rounded border border-line-strong bg-panel p-5 shadow-xl" aria-describedby={undefined}>
          <Dialog.Title className="mb-3 text-lg font-semibold">Keys</Dialog.Title>
          <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1.5">
            {HELP.map(([key, what]) => (
              <div key={key} className="contents">
                <dt>
                  <kbd className="rounded border border-line-strong bg-paper px-1.5 font-mono text-[12px]">{key}</kbd>
                </dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
          <Dialog.Close asChild>
            <IconButton label="Close" className="absolute top-3 right-3">
              <X size={14} />
            </IconButton>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
