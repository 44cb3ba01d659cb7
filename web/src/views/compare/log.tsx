/** How the plan came to be what it is: every revision, what it changed and why, and who stands by it. */
import { useState, type FormEvent } from "react";

import type { Schemas } from "../../api/client";
import { Button, Skeleton } from "../../kit/parts";
import { useDeciding, useLog } from "../../plan/deciding";
import type { Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { Link } from "../../plan/route";

type Entry = Schemas["LogEntry"];
/** So many changes of a revision are told at once. */
const TOLD = 4;
const WHEN = new Intl.DateTimeFormat("en-GB", { dateStyle: "medium", timeStyle: "short" });

export function LogOfPlan({ asked }: { asked: Asked }) {
  const log = useLog(asked);
  if (log.error) return <Trouble error={log.error} />;
  if (!log.data) return <Skeleton className="h-60" />;
  return (
    <>
      <ol className="max-w-4xl" data-testid="log" aria-label="Revisions, the newest first">
        {log.data.entries.map((one) => <Line key={one.revision} entry={one} planKey={asked.key} />)}
      </ol>
      {log.data.of > log.data.entries.length && <p className="mt-3 text-ink-soft">These are the newest {log.data.entries.length} of {log.data.of} revisions.</p>}
    </>
  );
}

function Line({ entry, planKey }: { entry: Entry; planKey: string }) {
  const { goTo } = useDeciding(planKey);
  const { revision, current, on_the_way: onTheWay } = entry;
  return (
    <li className={`grid grid-cols-[5.5rem_minmax(0,1fr)_auto] gap-x-4 border-t border-dotted border-line py-2 first:border-t-0 ${onTheWay ? "" : "opacity-75"}`} aria-current={current ? "true" : undefined}>
      <span>
        <b className="font-semibold tabular-nums">{revision}</b>
        <span className="block text-[11px] text-ink-soft">{current ? "now" : onTheWay ? "" : "undone"}</span>
      </span>
      <div>
        <p className="text-[12px] text-ink-soft">{WHEN.format(new Date(entry.at))}{entry.parent !== null && entry.parent !== revision - 1 ? `, made of revision ${entry.parent}` : ""}</p>
        <p>{changedWords(entry)}</p>
        <Reason entry={entry} planKey={planKey} />
        {entry.standings.map((one, place) => (
          <p key={place} className={one.agreed ? "text-moss" : "text-ink-soft"}>
            {one.agreed ? "agreed" : "looked over"}{one.who && ` by ${one.who}`}{one.why && `: ${one.why}`} <span className="text-[12px] text-ink-soft">({WHEN.format(new Date(one.at))})</span>
          </p>
        ))}
      </div>
      <span className="flex items-start gap-2">
        {!current && (
          <>
            <Link to="/plans/:key/compare" params={{ key: planKey }} search={{ since: revision }} className="flex min-h-6 items-center text-[12px] text-north hover:underline" aria-label={`beside now: revision ${revision}`}>beside now</Link>
            <Button className="text-[12px]" disabled={goTo.isPending} aria-label={`Go to it: revision ${revision}`} onClick={() => goTo.mutate(revision)}>Go to it</Button>
          </>
        )}
      </span>
    </li>
  );
}

function changedWords({ changes, parent, from_file: fromFile }: Entry): string {
  if (parent === null) return fromFile ? "taken in" : "begun";
  const told = changes.slice(0, TOLD).map((one) => `${one.about}: ${one.words}`);
  const more = changes.length - told.length;
  return `${fromFile ? "from a file: " : ""}${told.join("; ") || "nothing changed"}${more > 0 ? `; and ${more} more` : ""}`;
}

/** Why it was made, in somebody's words: written, or written anew, with Enter. */
function Reason({ entry, planKey }: { entry: Entry; planKey: string }) {
  const { reason } = useDeciding(planKey);
  const [text, setText] = useState<string>();
  const send = (event: FormEvent) => {
    event.preventDefault();
    reason.mutate({ revision: entry.revision, reason: text ?? "" }, { onSuccess: () => setText(undefined) });
  };
  if (text === undefined)
    return (
      <button type="button" className={`min-h-6 text-left ${entry.reason ? "italic" : "text-[12px] text-ink-soft hover:text-ink"}`} aria-label={entry.reason ? `${entry.reason}: the reason of revision ${entry.revision}` : `why? The reason of revision ${entry.revision}`} onClick={() => setText(entry.reason)}>
        {entry.reason || "why?"}
      </button>
    );
  return (
    <form className="my-0.5 flex gap-1.5" onSubmit={send}>
      <input autoFocus aria-label={`Reason of revision ${entry.revision}`} maxLength={2000} className="min-h-7 w-full max-w-xl rounded border border-line-strong bg-panel px-2" value={text} onChange={(event) => setText(event.target.value)} onKeyDown={(event) => event.key === "Escape" && setText(undefined)} />
      <Button type="submit" disabled={reason.isPending}>Keep</Button>
    </form>
  );
}
