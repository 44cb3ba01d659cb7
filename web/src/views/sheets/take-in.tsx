/** Files of what is there already, taken into the plan: what would come in is shown first. */
import { useMutation } from "@tanstack/react-query";
import { FileInput } from "lucide-react";
import { Dialog } from "radix-ui";
import { useRef, useState } from "react";

import { api, dataOf, type Schemas } from "../../api/client";
import { amount } from "../../kit/format";
import { Button } from "../../kit/parts";
import { problemAt, useEdit, type Operation } from "../../plan/edit";

/** What each of these sheets takes in. */
const TAKES = {
  clients: { file: "an access log", says: "Common Log Format, or combined, of any size: it becomes a client group that asks at the rate of its busiest minute, with its paths and its number of sources.", accept: "" },
  names: { file: "a zone file", says: "RFC 1035: addresses and aliases become names; those of balancers lead to them.", accept: ".zone,.txt,text/dns" },
  machines: { file: "a table", says: "CSV, its first row says what each column is: name and zone, and any other field of a machine.", accept: ".csv,text/csv" },
} as const;
type Takes = keyof typeof TAKES;

export function TakeIn({ planKey, sheet }: { planKey: string; sheet: string }) {
  const [open, setOpen] = useState(false);
  if (!(sheet in TAKES)) return null;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button>
          <FileInput size={13} aria-hidden="true" /> Take in {TAKES[sheet as Takes].file}
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-bar/40" />
        <Dialog.Content className="fixed top-16 left-1/2 z-40 flex max-h-[82vh] w-[min(640px,calc(100vw-16px))] -translate-x-1/2 flex-col rounded border border-line-strong bg-panel p-5 shadow-xl">
          <Taking planKey={planKey} form={sheet as Takes} onDone={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

interface Asked {
  file: File;
  profile: boolean;
}

function Taking({ planKey, form, onDone }: { planKey: string; form: Takes; onDone: () => void }) {
  const { edit } = useEdit(planKey);
  const [asked, setAsked] = useState<Asked>();
  const [stopped, setStopped] = useState(false);
  const stop = useRef<AbortController>(undefined);
  const reading = useMutation({
    mutationFn: async ({ file, profile }: Asked) => {
      const control = (stop.current = new AbortController());
      const request = { params: { path: { key: planKey }, query: { as: form, profile } }, body: file as never, bodySerializer: (body: unknown) => body as BodyInit, headers: { "content-type": "application/octet-stream" }, signal: control.signal };
      return dataOf(await api.POST("/api/plans/{key}/take-in", request));
    },
  });
  const read = (next: Asked) => {
    setAsked(next);
    setStopped(false);
    reading.mutate(next);
  };
  const halt = () => {
    setStopped(true);
    stop.current?.abort();
  };
  const { file, says, accept } = TAKES[form];
  const taken = reading.isPending ? undefined : reading.data;
  return (
    <>
      <Dialog.Title className="text-lg font-semibold">Take in {file}</Dialog.Title>
      <Dialog.Description className="mb-3 text-[12px] text-ink-soft">{says}</Dialog.Description>
      <input type="file" accept={accept} aria-label={`The file: ${file}`} className="mb-2 file:mr-3 file:rounded file:border file:border-solid file:border-line-strong file:bg-panel file:px-2 file:py-0.5 file:font-medium" disabled={reading.isPending} onChange={(event) => event.target.files?.[0] && read({ file: event.target.files[0], profile: asked?.profile ?? false })} />
      {form === "clients" && (
        <label className="mb-2 flex min-h-6 items-center gap-2">
          <input type="checkbox" checked={asked?.profile ?? false} disabled={!asked || reading.isPending} onChange={(event) => asked && read({ ...asked, profile: event.target.checked })} /> also how the rate changes from minute to minute
        </label>
      )}
      <div className="min-h-16 flex-1 overflow-y-auto" aria-live="polite" data-testid="taken-in">
        {reading.isPending && <p role="status" className="text-ink-soft">Reading {asked?.file.name} ({amount((asked?.file.size ?? 0) / 1e6)} MB) …</p>}
        {reading.error && <p role="alert" className="text-vermilion-text">{stopped ? "Stopped before its end: nothing was taken in." : problemAt(reading.error, "")}</p>}
        {taken && <Found taken={taken} />}
        {edit.isError && <p role="alert" className="text-vermilion-text">{problemAt(edit.error, "")}</p>}
      </div>
      <div className="mt-3 flex justify-end gap-2">
        {reading.isPending ? <Button onClick={halt}>Stop</Button> : <Dialog.Close asChild><Button>Cancel</Button></Dialog.Close>}
        <Button tone="main" disabled={!taken || taken.patch.length === 0 || edit.isPending} onClick={() => taken && edit.mutate(taken.patch as unknown as Operation[], { onSuccess: onDone })}>
          {taken ? `Take in ${amount(taken.patch.length)}` : "Take in"}
        </Button>
      </div>
    </>
  );
}

/** More than this are only counted. */
const SHOWN = 30;

function Found({ taken: { added, patch, read, bad, first_bad: firstBad, notes } }: { taken: Schemas["TakenInAnswer"] }) {
  return (
    <>
      <ul className="space-y-0.5 text-[12.5px]">
        {patch.slice(0, SHOWN).map((one, place) => (
          <li key={added[place]}>
            <b className={`mr-2 inline-block w-16 font-semibold ${one["op"] === "add" ? "text-moss" : "text-ochre-text"}`}>{one["op"] === "add" ? "added" : "changed"}</b>
            <b className="font-semibold">{added[place]}</b>
          </li>
        ))}
        {patch.length > SHOWN && <li className="text-ink-soft">and {amount(patch.length - SHOWN)} more</li>}
      </ul>
      <p className="mt-2 text-ink-soft">{amount(read)} read{bad > 0 ? `, ${amount(bad)} of them could not be taken:` : ""}</p>
      {firstBad.map((one) => <p key={one.line} className="font-mono text-[11.5px] [overflow-wrap:anywhere] text-ochre-text">line {one.line}: {one.text}</p>)}
      {notes.map((one) => <p key={one}>{one}</p>)}
    </>
  );
}
