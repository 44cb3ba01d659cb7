/** The way from one revision to another, rehearsed: what is done when, what fails meanwhile, and the way back. */
import { useQueryClient } from "@tanstack/react-query";
import { ArrowDown, ArrowUp } from "lucide-react";
import { useState } from "react";

import type { Schemas } from "../../api/client";
import { amount, span } from "../../kit/format";
import { Button, IconButton } from "../../kit/parts";
import { Working } from "../../kit/working";
import { useChange, useChangeMoment, useChangeProgress, type Ordered } from "../../plan/deciding";
import { answerKey, type Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { BoardThen, Rehearsed, type MomentProps } from "./rehearsed";
import { mayMove, moved, neededWords, readOrder, timed, writeOrder, type Place } from "./order";
import { useRoute } from "../../plan/route";

type Change = Schemas["RehearsalAnswer"];

export function Rehearsal({ asked, before }: { asked: Asked; before: Ordered }) {
  const change = useChange(asked, before);
  if (change.error) return <Trouble error={change.error} />;
  if (!change.data) return <Rehearsing asked={asked} before={before} running={change.isFetching} onAgain={() => void change.refetch()} />;
  const { data } = change;
  if (data.steps.length === 0) return <p className="text-ink-soft" data-testid="rehearsed">Nothing is to be done: the two are built alike.</p>;
  return (
    <Rehearsed change={data} Moment={(given) => <ChangeMoment {...given} asked={asked} before={before} />}>
      <Steps key={before.order} change={data} order={before.order} waiting={change.isPlaceholderData} />
    </Rehearsed>
  );
}

function ChangeMoment({ asked, before, ...given }: MomentProps & { asked: Asked; before: Ordered }) {
  return <BoardThen {...given} moment={useChangeMoment(asked, before, given.at)} />;
}

function Steps({ change, order, waiting }: { change: Change; order: string | undefined; waiting: boolean }) {
  const { say } = useRoute("/plans/:key/compare");
  const back = new Map(change.rollback.map((one) => [one.from_step, one]));
  const places = readOrder(order, change.steps.length);
  const take = (made: Place[]) => say((now) => ({ ...now, order: writeOrder(made) }), true);
  return (
    <div className={`relative max-w-full overflow-x-auto ${waiting ? "opacity-60" : ""}`} tabIndex={0} role="group" aria-label="Steps" aria-busy={waiting}>
      <table className="w-full text-left tabular-nums" data-testid="change-steps">
        <thead className="text-[11px] text-ink-soft">
          <tr>{["", "at second", "what is done", "needs", "then waits", "fails", "fails on the way back from here", "order"].map((one) => <th key={one} scope="col" className="pr-3 pb-1 font-normal">{one || <span className="sr-only">number</span>}</th>)}</tr>
        </thead>
        <tbody>
          {change.steps.map((one, index) => (
            <tr key={places[index]?.step} className="border-t border-dotted border-line align-baseline">
              <td className="pr-2 text-ink-soft">{index + 1}</td>
              <td className="pr-3"><At step={index + 1} at={one.at_s} set={places[index]?.at_s !== undefined} onAt={(at) => take(timed(places, index, at))} /></td>
              <td className="pr-3">{one.words}</td>
              <td className="pr-3 whitespace-nowrap text-ink-soft">{neededWords(one.needs)}</td>
              <td className="pr-3">{one.waits_s > 0 ? span(one.waits_s) : "–"}</td>
              <td className={`pr-3 ${one.failed >= 0.5 ? "font-semibold text-vermilion-text" : ""}`}>{one.failed >= 0.5 ? amount(one.failed) : "none"}</td>
              <td className="pr-3">{backWords(back.get(index))}</td>
              <td className="whitespace-nowrap">
                <span className="flex">
                  <IconButton quiet label={`Take step ${index + 1} earlier`} disabled={waiting || !mayMove(change.steps, index, -1)} onClick={() => take(moved(places, index, -1))}><ArrowUp size={12} /></IconButton>
                  <IconButton quiet label={`Take step ${index + 1} later`} disabled={waiting || !mayMove(change.steps, index, 1)} onClick={() => take(moved(places, index, 1))}><ArrowDown size={12} /></IconButton>
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {order !== undefined && <Button className="mt-2" onClick={() => take(readOrder(undefined, change.steps.length))}>Back to the usual order</Button>}
    </div>
  );
}

/** The second at which a step is taken; empty: as soon as the one before has settled. */
function At({ step, at, set, onAt }: { step: number; at: number; set: boolean; onAt: (at: number | undefined) => void }) {
  const [text, setText] = useState<string>();
  const shown = text ?? String(Math.round(at * 10) / 10);
  const leave = () => {
    const wanted = text?.trim();
    setText(undefined);
    if (wanted === undefined || (wanted === "" && !set)) return;
    if (wanted === "") onAt(undefined);
    else if (Number(wanted) >= 0 && Number(wanted) !== at) onAt(Number(wanted));
  };
  return <input aria-label={`Second of step ${step}`} title="Empty: as soon as the step before has settled" inputMode="decimal" className={`min-h-6 w-16 rounded border bg-transparent px-1 text-right hover:border-line-strong ${set ? "border-line-strong font-semibold" : "border-line"}`} value={shown} onChange={(event) => setText(event.target.value)} onBlur={leave} onKeyDown={(event) => event.key === "Enter" && leave()} />;
}

export function backWords(back: Schemas["Rollback"] | undefined): string {
  if (!back) return "";
  const failed = back.failed >= 0.5 ? amount(back.failed) : "none";
  return back.lasts_s > 0 ? `${failed}, within ${span(back.lasts_s)}` : failed;
}

function Rehearsing({ asked, before, running, onAgain }: { asked: Asked; before: Ordered; running: boolean; onAgain: () => void }) {
  const client = useQueryClient();
  const { data } = useChangeProgress(asked, before, running);
  return <Working doing="Rehearsing each step, there and back" stopped="Stopped before all was rehearsed." called="How many steps have been rehearsed" again="Rehearse it" running={running} done={data} waits={data?.waits} onStop={() => void client.cancelQueries({ queryKey: answerKey(asked, "change", before.since, before.beside, before.order) })} onAgain={onAgain} />;
}
