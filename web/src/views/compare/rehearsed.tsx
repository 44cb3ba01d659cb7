/** What a rehearsed change comes to, and its board at any second. */
import type { UseQueryResult } from "@tanstack/react-query";
import type { ComponentType, ReactNode } from "react";

import type { Schemas } from "../../api/client";
import { amount, clock, counted, percent, perSecond, span } from "../../kit/format";
import { Button, Section, Skeleton } from "../../kit/parts";
import { NO_ADDRESSES } from "../../plan/addresses";
import { Trouble } from "../../plan/trouble";
import { Board } from "../../board/board";
import { useRoute } from "../../plan/route";

type Change = Schemas["RehearsalAnswer"];

export interface MomentProps {
  at: number;
  change: Change;
}

/** The change in one sentence, over time, and in numbers; its steps; its board at a second that is asked for. */
export function Rehearsed({ change, Moment, children }: { change: Change; Moment: ComponentType<MomentProps>; children: ReactNode }) {
  const { search: { at }, say } = useRoute("/plans/:key/compare");
  const goTo = (second: number | undefined) => say((now) => ({ ...now, at: second }), true);
  const { readings, at_once: once } = change;
  return (
    <div className="grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_300px]" data-testid="rehearsed">
      <div>
        <p className="mb-3 text-[15px] font-semibold">{sentence(change)}</p>
        <div className="relative mb-3">
          <Button className="absolute -top-1 right-0" onClick={() => goTo(at === undefined ? Math.floor(change.worst.at_s) : undefined)}>{at === undefined ? "The board at the worst second" : "Hide the board"}</Button>
          <Chart change={change} at={at} />
          <Cursor change={change} at={at} onAt={goTo} />
        </div>
        {at !== undefined && <Moment at={at} change={change} />}
        {children}
      </div>
      <aside aria-label="What it comes to">
        <Section level="h2" title="What it comes to">
          <Reading words="takes" value={span(readings["lasts_s"] ?? 0)} />
          <Reading words="fails" value={amount(readings["failed"] ?? 0)} />
          <Reading words="of what is asked" value={percent(readings["failed_share"] ?? 0)} />
          <Reading words="the worst second" value={`${perSecond(change.worst.failed_rps)} at ${clock(change.worst.at_s)}`} />
          <Reading words="busiest target" value={percent(readings["peak_utilisation"] ?? 0)} />
        </Section>
        <Section level="h2" title="All at once instead">
          <Reading words="fails" value={amount(once["failed"] ?? 0)} />
          <Reading words="within" value={span(once["lasts_s"] ?? 0)} />
        </Section>
        {change.warnings.map((one) => <p key={one} className="text-ochre-text">{one}</p>)}
      </aside>
    </div>
  );
}

/** Any second of the change: by pointer or by arrow keys. */
function Cursor({ change, at, onAt }: { change: Change; at: number | undefined; onAt: (second: number) => void }) {
  const begins = change.steps[0]?.at_s ?? 0;
  const ends = begins + Math.max(change.readings["lasts_s"] ?? 0, 1);
  return (
    <input type="range" aria-label="Second of the change" className="mt-1 block w-full accent-[var(--north)]" min={begins} max={ends} step={1} value={at ?? begins} aria-valuetext={clock(at ?? begins)} onChange={(event) => onAt(Number(event.target.value))} />
  );
}

const NOTHING = { lost: [], lit: [], lostSince: new Map<string, number>(), marks: new Map() };
const AS_IT_FITS = { open: [], expanded: undefined, only: undefined };

/** The plan's board as it is at that second. */
export function BoardThen({ at, change, moment }: MomentProps & { moment: UseQueryResult<Schemas["ChangeMoment"]> }) {
  const document = moment.data?.document;
  if (moment.error) return <Trouble error={moment.error} />;
  if (!moment.data || !document) return <Skeleton className="h-96" />;
  const { state, step, under_way: underWay } = moment.data;
  return (
    <section aria-label={`The board at ${clock(at)}`} className={`mb-4 ${moment.isPlaceholderData ? "opacity-70" : ""}`}>
      <p className="mb-1 text-[12px] text-ink-soft" aria-live="polite">
        <b className="font-semibold text-ink">{clock(at)}</b>, after step {step + 1} ({change.steps[step]?.words}): {perSecond(state.served_rps)} served, {amount(underWay)} requests under way, {state.failed_rps > 0.05 ? <b className="font-semibold text-vermilion-text">{perSecond(state.failed_rps)} failing</b> : "nothing failing"}
      </p>
      <div className="h-[420px] overflow-hidden rounded border border-line">
        <Board {...NOTHING} document={document} state={state} selection={undefined} onSelect={ignore} onBreak={undefined} folding={AS_IT_FITS} onFold={ignore} addresses={NO_ADDRESSES} />
      </div>
    </section>
  );
}

/** The board is only looked at here. */
function ignore(): void {
  return undefined;
}

function sentence({ steps, readings, at_once: once }: Change): string {
  const failed = readings["failed"] ?? 0;
  const fails = failed < 0.5 ? "no request fails" : `${amount(failed)} requests fail`;
  return `In ${counted(steps.length, "step")} over ${span(readings["lasts_s"] ?? 0)} ${fails}; all at once ${(once["failed"] ?? 0) < 0.5 ? "none would either" : `${amount(once["failed"] ?? 0)} would`}.`;
}

function Reading({ words, value }: { words: string; value: string }) {
  return <p className="flex justify-between gap-3 border-b border-dotted border-line py-0.5"><span className="text-ink-soft">{words}</span><span className="font-semibold tabular-nums">{value}</span></p>;
}

/** What fails over the whole change, with a mark for each step. */
function Chart({ change, at }: { change: Change; at: number | undefined }) {
  const { series, steps, readings } = change;
  const lasts = Math.max(readings["lasts_s"] ?? 0, 1);
  const begins = steps[0]?.at_s ?? 0;
  const most = Math.max(...series.failed_rps, ...series.failed_before_rps, 1e-9);
  const x = (second: number) => ((second - begins) / lasts) * 1000;
  const y = (rate: number) => 78 - (most > 0.5 ? (rate / most) * 70 : 0);
  const points = series.t_s.map((second, index) => {
    const [from, to] = [x(second), x(series.t_s[index + 1] ?? begins + lasts)];
    const [first, last] = [y(series.failed_rps[index] ?? 0), y(series.failed_before_rps[index] ?? 0)];
    return `${from.toFixed(1)},${first.toFixed(1)} ${to.toFixed(1)},${last.toFixed(1)}`;
  });
  return (
    <figure>
      <figcaption className="mb-2 text-[12px] text-ink-soft">Failing, {most > 0.5 ? `up to ${perSecond(most)}` : "nothing at any second"}; a line for each step</figcaption>
      <svg viewBox="0 0 1000 80" preserveAspectRatio="none" className="h-20 w-full rounded border border-line bg-panel" role="img" aria-label={`Failing over ${span(lasts)}, ${most > 0.5 ? `up to ${perSecond(most)}` : "nothing"}`}>
        {steps.map((one, index) => <line key={index} x1={x(one.at_s)} x2={x(one.at_s)} y1={0} y2={80} stroke="var(--north)" strokeDasharray="3 4" vectorEffect="non-scaling-stroke" />)}
        {at !== undefined && <line x1={x(at)} x2={x(at)} y1={0} y2={80} stroke="var(--ink)" strokeWidth={1.5} vectorEffect="non-scaling-stroke" />}
        <polygon points={`0,78 ${points.join(" ")} 1000,78`} fill="var(--vermilion)" fillOpacity={0.75} />
      </svg>
    </figure>
  );
}

