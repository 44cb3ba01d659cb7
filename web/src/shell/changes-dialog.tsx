import { Dialog } from "radix-ui";
import { useState } from "react";

import type { PlanHead, Schemas } from "../api/client";
import { Button } from "../kit/parts";
import { useDeciding, useGate } from "../plan/deciding";
import { useDifference } from "../plan/queries";
import { Link } from "../plan/route";

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
      <Gate head={head} />
      <Standing head={head} />
    </>
  );
}

/** What stands in the way of agreeing; nobody is held back by it. */
function Gate({ head }: { head: PlanHead }) {
  const gate = useGate({ key: head.key, revision: head.revision });
  if (gate.error) return null;
  if (!gate.data) return <p role="status" className="mb-3 text-ink-soft">Looking for what stands in the way …</p>;
  const { stops, missed } = gate.data;
  if (stops.length + missed.length === 0) return <p className="mb-3 text-moss" data-testid="gate">Nothing stands in the way: no finding stops traffic, and every drill finds what it expects.</p>;
  return (
    <ul className="mb-3 max-h-40 space-y-1 overflow-y-auto rounded border border-vermilion bg-vermilion-fill p-2 text-[12.5px]" data-testid="gate" aria-label="What stands in the way">
      {stops.map((one) => <li key={one.code + one.where}><b className="font-semibold text-vermilion-text">stops</b> {one.message}</li>)}
      {missed.map((one) => <li key={one.drill + one.reading}><b className="font-semibold text-vermilion-text">not held</b> {one.drill}: {one.reading.replaceAll("_", " ")} {one.wanted}, but is {Number(one.got.toPrecision(4))}</li>)}
    </ul>
  );
}

const FIELD = "mt-1 min-h-7 w-full rounded border border-line-strong bg-paper px-2";

/** Who looks it over or agrees, and why: free text, and either may be left out. */
function Standing({ head }: { head: PlanHead }) {
  const { stand } = useDeciding(head.key);
  const [who, setWho] = useState("");
  const [why, setWhy] = useState("");
  const said = (agreed: boolean) => stand.mutate({ agreed, who, why });
  return (
    <>
      <div className="mb-3 grid grid-cols-[10rem_minmax(0,1fr)] gap-2">
        <label className="text-[12px] text-ink-soft">who <input className={FIELD} maxLength={200} value={who} onChange={(event) => setWho(event.target.value)} /></label>
        <label className="text-[12px] text-ink-soft">why, or what for <input className={FIELD} maxLength={2000} value={why} onChange={(event) => setWhy(event.target.value)} /></label>
      </div>
      <span className="flex flex-wrap justify-end gap-2">
        <span className="mr-auto flex gap-3">
          <Dialog.Close asChild>
            <Link to="/plans/:key/compare" params={{ key: head.key }} search={{ way: "change" }} className="flex min-h-6 items-center text-north hover:underline">Rehearse the change</Link>
          </Dialog.Close>
          <Dialog.Close asChild>
            <Link to="/plans/:key/compare" params={{ key: head.key }} search={{ way: "log" }} className="flex min-h-6 items-center text-north hover:underline">Log</Link>
          </Dialog.Close>
        </span>
        <Dialog.Close asChild>
          <Button>Close</Button>
        </Dialog.Close>
        <Dialog.Close asChild>
          <Button onClick={() => said(false)}>Looked over</Button>
        </Dialog.Close>
        <Dialog.Close asChild>
          <Button className="border-moss text-moss" disabled={head.agreed === head.revision} onClick={() => said(true)}>
            Agree on revision {head.revision}
          </Button>
        </Dialog.Close>
      </span>
    </>
  );
}
