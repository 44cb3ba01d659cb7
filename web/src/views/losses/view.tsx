/** What each loss would cost: every part lost in turn, ranked; pairs; how far away overload is; and what a year comes to. */
import { useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";

import type { PlanDocument, Schemas } from "../../api/client";
import { amount, percent, seconds, span } from "../../kit/format";
import { useRoving } from "../../kit/roving";
import { Working } from "../../kit/working";
import { adding, useEdit } from "../../plan/edit";
import { useLosses, useLossesProgress, type Loss } from "../../plan/judging";
import { answerKey, usePlan, type Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { drillOf } from "./drills";
import { Head } from "./head";
import { PairMap } from "./pairs";
import { Year } from "./year";
import { useNavigate, useRoute } from "../../plan/route";

/** More rows than this are asked for. */
const MOST_ROWS = 40;

export function LossesView() {
  const { params: { key }, search: { pairs = false } } = useRoute("/plans/:key/losses");
  const plan = usePlan(key);
  const asked: Asked = { key, revision: plan.data?.head.revision };
  const losses = useLosses(asked, pairs);
  const document = plan.data?.document;
  const error = plan.error ?? losses.error;
  if (error) return <main id="main" className="flex-1 overflow-y-auto"><Trouble error={error} document={document} /></main>;
  if (!document || !losses.data) return <Computing asked={asked} pairs={pairs} running={losses.isFetching || !document} onAgain={() => void losses.refetch()} />;
  return <Losses planKey={key} document={document} answer={losses.data} pairs={pairs} />;
}

/** How many losses have been computed, while that takes its time. */
function Computing({ asked, pairs, running, onAgain }: { asked: Asked; pairs: boolean; running: boolean; onAgain: () => void }) {
  const client = useQueryClient();
  const progress = useLossesProgress(asked, pairs, running);
  return (
    <main id="main" className="flex-1 p-8" aria-label="Losses">
      <Head planKey={asked.key} way={pairs ? "two at once" : "one at a time"} />
      <Working doing={`Losing every ${pairs ? "pair of parts" : "part"} in turn`} stopped="Stopped before all were computed." called="How many losses have been computed" again="Compute them" running={running} done={progress.data} waits={progress.data?.waits} onStop={() => void client.cancelQueries({ queryKey: answerKey(asked, "losses", pairs) })} onAgain={onAgain} />
    </main>
  );
}

interface LossesProps {
  planKey: string;
  document: PlanDocument;
  answer: Schemas["LossesAnswer"];
  pairs: boolean;
}

function Losses({ planKey, document, answer, pairs }: LossesProps) {
  const rows = useMemo(() => (pairs ? byMore(answer.losses) : answer.losses.filter((one) => one.of.length === 1)), [answer, pairs]);
  const [first] = rows;
  const { make } = useMakeDrill(planKey, document);
  return (
    <div className="flex min-h-0 flex-1 max-lg:flex-col max-lg:overflow-y-auto">
      <main id="main" className="min-w-0 flex-1 px-4 pt-4 pb-24 sm:px-7 lg:overflow-y-auto" aria-label="Losses">
        <Head planKey={planKey} way={pairs ? "two at once" : "one at a time"}>
          <p className="text-ink-soft" data-testid="losses-summary">{first ? summary(rows, first, pairs) : "Nothing to lose yet: the plan has no machines."}</p>
        </Head>
        {pairs && <PairMap losses={answer.losses} onMake={make} />}
        <Ranked key={String(pairs)} planKey={planKey} document={document} rows={rows} pairs={pairs} />
      </main>
      <aside className="w-80 shrink-0 border-l border-line bg-panel px-4 pt-4 pb-10 max-lg:w-full max-lg:border-t max-lg:border-l-0 lg:overflow-y-auto" aria-label="Headroom and a year">
        <Headrooms rooms={answer.headroom} />
        <Year planKey={planKey} document={document} year={answer.year} />
      </aside>
    </div>
  );
}

/** Makes a row a drill of the plan, and goes there. */
function useMakeDrill(planKey: string, document: PlanDocument) {
  const { edit } = useEdit(planKey);
  const navigate = useNavigate();
  const make = (row: Loss) => {
    const { name, value } = drillOf(document, row);
    edit.mutate([adding("/drills/-", value)], { onSuccess: () => navigate({ to: "/plans/:key/drill", params: { key: planKey }, search: { drill: name } }) });
  };
  return { make, pending: edit.isPending };
}

/** Pairs that together cost more than the costlier of the two alone, by how much. */
function byMore(losses: Loss[]): Loss[] {
  const more = (one: Loss) => one.failed_requests - one.alone;
  return losses.filter((one) => one.of.length === 2 && more(one) > 0).sort((one, other) => more(other) - more(one));
}

function summary(rows: Loss[], first: Loss, pairs: boolean): string {
  const count = amount(rows.reduce((sum, one) => sum + one.count, 0));
  if (pairs) return `${count} pairs cost more than the costlier of the two alone; most of all ${first.words}.`;
  return `Of ${count} losses the costliest is ${first.words}: ${amount(first.failed_requests)} requests fail within an hour.`;
}

const HEADS = ["what is lost", "fails within an hour", "blind", "settles", "unserved", "busiest then", ""];

function Ranked({ planKey, document, rows, pairs }: { planKey: string; document: PlanDocument; rows: Loss[]; pairs: boolean }) {
  const [all, setAll] = useState(false);
  const roving = useRoving();
  const most = Math.max(...rows.map((one) => one.failed_requests), 0);
  const heads = HEADS.map((one, place) => (pairs && place === 2 ? "than alone" : one));
  const shown = all ? rows : rows.slice(0, MOST_ROWS);
  return (
    <div className="relative max-w-full overflow-x-auto">
      <table className="w-full text-left tabular-nums" data-testid="losses" {...roving}>
        <thead className="text-[11px] text-ink-soft">
          <tr>{heads.map((one) => <th key={one} scope="col" className="pr-3 pb-1 font-normal whitespace-nowrap">{one || <span className="sr-only">make it a drill</span>}</th>)}</tr>
        </thead>
        <tbody>{shown.map((one) => <Row key={one.words} planKey={planKey} document={document} row={one} most={most} pairs={pairs} />)}</tbody>
      </table>
      {rows.length > shown.length && <button type="button" className="mt-2 min-h-6 text-north hover:underline" onClick={() => setAll(true)}>and {rows.length - shown.length} more</button>}
    </div>
  );
}

interface RowProps {
  planKey: string;
  document: PlanDocument;
  row: Loss;
  most: number;
  pairs: boolean;
}

function Row({ planKey, document, row, most, pairs }: RowProps) {
  const { make, pending } = useMakeDrill(planKey, document);
  const over = row.peak_utilisation > 1;
  return (
    <tr className="border-t border-dotted border-line align-baseline hover:bg-foot">
      <th scope="row" className="max-w-80 py-1 pr-3 font-medium [overflow-wrap:anywhere]">
        {row.words}
        {row.cascade && <span className="ml-2 rounded-sm bg-vermilion-fill px-1 text-[11px] font-semibold text-vermilion-text" title="It drives out targets that it does not touch">cascade</span>}
      </th>
      <td className="w-52 pr-3">
        <span className="flex items-center gap-2">
          <span className="w-20 shrink-0 text-right">{amount(row.failed_requests)}</span>
          <span className="block h-2 rounded-sm bg-vermilion" style={{ width: most > 0 ? Math.max((row.failed_requests / most) * 96, row.failed_requests > 0 ? 1 : 0) : 0 }} aria-hidden="true" />
        </span>
      </td>
      <td className="pr-3 whitespace-nowrap">{pairs ? `+${amount(row.failed_requests - row.alone)}` : seconds(row.blind_s)}</td>
      <td className={`pr-3 whitespace-nowrap ${row.settled ? "" : "text-vermilion-text"}`}>{row.settled ? span(row.settled_s) : "not within an hour"}</td>
      <td className={`pr-3 ${row.unserved_share > 0 ? "text-vermilion-text" : "text-ink-soft"}`}>{row.unserved_share > 0 ? percent(row.unserved_share) : "none"}</td>
      <td className={`pr-3 whitespace-nowrap ${over ? "text-vermilion-text" : row.peak_utilisation >= 0.8 ? "text-ochre-text" : ""}`}>{row.busiest && row.peak_utilisation > 0 ? `${percent(row.peak_utilisation)} ${row.busiest}` : "nobody"}</td>
      <td className="text-right">
        <button type="button" className="min-h-6 text-[12px] whitespace-nowrap text-north hover:underline" disabled={pending} aria-label={`make it a drill: ${row.words}`} onClick={() => make(row)} data-roving>
          make it a drill
        </button>
      </td>
    </tr>
  );
}

/** The longest bar stands for this factor. */
const FULL = 2;

function Headrooms({ rooms }: { rooms: Schemas["Headroom"][] }) {
  return (
    <section aria-label="Headroom">
      <h2 className="border-b border-line pb-1 font-semibold">Headroom</h2>
      <p className="mt-1 text-[12px] text-ink-soft">From how many times today's load a target, or a balancer's bandwidth, is overloaded, once the loss has settled, with the machines that there are now.</p>
      <ul className="mt-2 space-y-1.5">
        {rooms.map((one) => (
          <li key={one.words}>
            <span className="flex items-baseline justify-between gap-2">
              <span className="[overflow-wrap:anywhere]">{one.lost ? `${one.words} lost` : "nothing lost"}{one.limit && <span className="text-[12px] text-ink-soft">, at {one.limit}</span>}</span>
              <b className={`shrink-0 font-semibold tabular-nums ${one.factor !== null && one.factor < 1 ? "text-vermilion-text" : one.factor !== null && one.factor < 1.25 ? "text-ochre-text" : ""}`}>{one.factor === null ? "no limit known" : `${Math.round(one.factor * 100) / 100} times`}</b>
            </span>
            {one.factor !== null && (
              <span className="relative mt-1 block h-1.5 rounded-sm bg-line" aria-hidden="true">
                <span className={`absolute inset-y-0 left-0 rounded-sm ${one.factor < 1 ? "bg-vermilion" : one.factor < 1.25 ? "bg-ochre" : "bg-moss"}`} style={{ width: `${Math.min(one.factor / FULL, 1) * 100}%` }} />
                <span className="absolute -inset-y-0.5 w-px bg-ink" style={{ left: `${100 / FULL}%` }} title="today's load" />
              </span>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
