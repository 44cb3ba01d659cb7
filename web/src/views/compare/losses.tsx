/** Losses that cost otherwise in one plan than in the other. */
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import type { Schemas } from "../../api/client";
import { amount } from "../../kit/format";
import { Section } from "../../kit/parts";
import { Working } from "../../kit/working";
import { useLossesCompared, useLossesComparedProgress, type Before } from "../../plan/deciding";
import { answerKey, type Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";

/** More rows than this are asked for. */
const SHOWN = 8;

export function LossesCompared({ asked, before }: { asked: Asked; before: Before }) {
  const losses = useLossesCompared(asked, before);
  return (
    <Section level="h2" title="Losses">
      {losses.error ? <Trouble error={losses.error} /> : losses.data ? <Moved moved={losses.data} /> : <Computing asked={asked} before={before} running={losses.isFetching} onAgain={() => void losses.refetch()} />}
    </Section>
  );
}

function Computing({ asked, before, running, onAgain }: { asked: Asked; before: Before; running: boolean; onAgain: () => void }) {
  const client = useQueryClient();
  const { data } = useLossesComparedProgress(asked, before, running);
  return <Working doing="Losing every part of both in turn" stopped="Stopped before all were computed." called="How many losses have been computed" again="Compute them" running={running} done={data} waits={data?.waits} onStop={() => void client.cancelQueries({ queryKey: answerKey(asked, "compare losses", before.since, before.beside) })} onAgain={onAgain} />;
}

function Moved({ moved: { gained, lost, changed } }: { moved: Schemas["LossesMoved"] }) {
  const [all, setAll] = useState(false);
  const rows = [...gained.map((one) => ({ ...one, said: "gained" })), ...lost.map((one) => ({ ...one, said: "lost" })), ...changed.map((one) => ({ ...one, said: "" }))];
  if (rows.length === 0) return <p className="text-ink-soft" data-testid="losses-moved">Every loss costs the same.</p>;
  const shown = all ? rows : rows.slice(0, SHOWN);
  return (
    <div data-testid="losses-moved">
      <p className="mb-1 text-[12px] text-ink-soft">Requests that fail within an hour of it</p>
      <table className="w-full text-left tabular-nums">
        <thead className="sr-only"><tr><th scope="col">what is lost</th><th scope="col">before</th><th scope="col">after</th></tr></thead>
        <tbody>
          {shown.map((one) => (
            <tr key={one.words} className="border-t border-dotted border-line align-baseline first:border-t-0">
              <th scope="row" className="pr-3 font-normal [overflow-wrap:anywhere]">
                {one.said && <><span className={`mr-1.5 rounded border px-1.5 text-[11px] ${one.said === "gained" ? "border-ochre text-ochre-text" : "border-moss text-moss"}`}>{one.said}</span>{" "}</>}
                {one.words}
              </th>
              <td className="pr-3 text-right whitespace-nowrap text-ink-soft">{shownAmount(one.a)} →</td>
              <td className={`text-right font-semibold whitespace-nowrap ${(one.b ?? 0) > (one.a ?? 0) ? "text-vermilion-text" : "text-moss"}`}>{shownAmount(one.b)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length > shown.length && <button type="button" className="mt-1 min-h-6 text-north hover:underline" onClick={() => setAll(true)}>and {rows.length - shown.length} more</button>}
    </div>
  );
}

/** What fails; of a part that is not in the plan nothing can. */
function shownAmount(value: number | null): string {
  return value === null ? "not there" : amount(value);
}
