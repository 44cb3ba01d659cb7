/** One or two settings swept: a heat map of what a drill comes to, at what price in probes; one click adopts a cell. */
import { useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent, type KeyboardEvent } from "react";

import type { PlanDocument } from "../../api/client";
import { amount } from "../../kit/format";
import { Button } from "../../kit/parts";
import { Working } from "../../kit/working";
import { useSettings, useSweep, useSweepProgress, type Swept } from "../../plan/deciding";
import { useEdit } from "../../plan/edit";
import type { CompareSearch } from "../../plan/searches";
import { answerKey, type Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { adopting, isNow, offered, readAxis, strength, writeAxis, type Axis } from "./heat";
import { readingWords, shownReading } from "./words";
import { useRoute } from "../../plan/route";

const BOX = "min-h-7 rounded border border-line-strong bg-panel px-2";
/** What is swept for most often. */
const READINGS = ["failed", "failed_share", "worst_blind_s", "settled_s", "peak_utilisation", "peak_latency_ms", "sessions_moved", "peak_targets"];
type SweptAnswer = NonNullable<ReturnType<typeof useSweep>["data"]>;
const NO_AXIS: Axis = { path: "", low: "", high: "", step: "" };

export function Sweep({ asked, document, search }: { asked: Asked; document: PlanDocument; search: CompareSearch }) {
  const drill = search.drill ?? document.drills[0]?.name;
  const swept: Swept | undefined = drill && search.set ? { drill, reading: search.reading ?? "failed", set: search.set } : undefined;
  const sweep = useSweep(asked, swept);
  if (!drill) return <p className="text-ink-soft">A sweep runs a drill again and again: write one first.</p>;
  return (
    <div data-testid="sweep">
      <Question key={JSON.stringify(search)} asked={asked} document={document} drill={drill} search={search} />
      {swept && sweep.error && <Trouble error={sweep.error} />}
      {swept && !sweep.error && !sweep.data && <Sweeping asked={asked} swept={swept} running={sweep.isFetching} onAgain={() => void sweep.refetch()} />}
      {swept && sweep.data && <Heat planKey={asked.key} answer={sweep.data} reading={swept.reading} />}
      {!swept && <p className="text-ink-soft">Choose a setting, such as a probe’s interval, and the values to try.</p>}
    </div>
  );
}

function Question({ asked, document, drill, search }: { asked: Asked; document: PlanDocument; drill: string; search: CompareSearch }) {
  const { say } = useRoute("/plans/:key/compare");
  const settings = useSettings(asked).data ?? [];
  const [ask, setAsk] = useState({ drill, reading: search.reading ?? "failed" });
  const [written, setWritten] = useState<Axis[]>([0, 1].map((place) => readAxis(search.set?.[place] ?? "") ?? NO_AXIS));
  // As long as no value is written, those are offered that go with the setting.
  const axes = written.map((axis) => {
    const known = axis.low + axis.high + axis.step === "" ? settings.find((one) => one.path === axis.path.trim()) : undefined;
    return known ? offered(known) : axis;
  });
  const change = (place: number, field: keyof Axis, text: string) =>
    setWritten(axes.map((one, at) => (at !== place ? one : field === "path" ? { ...NO_AXIS, path: text } : { ...one, [field]: text })));
  const send = (event: FormEvent) => {
    event.preventDefault();
    const set = axes.filter((one) => one.path.trim() !== "").map(writeAxis);
    if (set.length) say((before) => ({ ...before, ...ask, set }));
  };
  return (
    <form className="mb-5 grid max-w-4xl gap-2" onSubmit={send}>
      <span className="flex flex-wrap items-center gap-2">
        <span>What</span>
        <select aria-label="Reading" className={BOX} value={ask.reading} onChange={(event) => setAsk({ ...ask, reading: event.target.value })}>
          {READINGS.map((one) => <option key={one} value={one}>{readingWords(one)}</option>)}
        </select>
        <span>of drill</span>
        <select aria-label="Drill" className={BOX} value={ask.drill} onChange={(event) => setAsk({ ...ask, drill: event.target.value })}>
          {document.drills.map((one) => <option key={one.name} value={one.name}>{one.name}</option>)}
        </select>
        <span>comes to with</span>
      </span>
      {axes.map((axis, place) => (
        <span key={place} className="flex flex-wrap items-center gap-2">
          <input aria-label={place === 0 ? "Setting" : "Second setting"} list="settings" placeholder={place === 0 ? "probes/ready/interval_s" : "another setting, if you like"} className={`${BOX} w-80 max-w-full font-mono text-[12px]`} value={axis.path} onChange={(event) => change(place, "path", event.target.value)} />
          {(["low", "high", "step"] as const).map((field) => (
            <label key={field} className="flex items-center gap-1.5 text-ink-soft">
              {{ low: "from", high: "to", step: "by" }[field]}
              <input inputMode="decimal" aria-label={`${place === 0 ? "" : "Second setting "}${{ low: "from", high: "to", step: "by" }[field]}`.trim()} className={`${BOX} w-20 text-right text-ink tabular-nums`} value={axis[field]} onChange={(event) => change(place, field, event.target.value)} />
            </label>
          ))}
          {place === 1 && <Button type="submit" tone="main">Sweep</Button>}
        </span>
      ))}
      <datalist id="settings">{settings.map((one) => <option key={one.path} value={one.path}>{`now ${one.now}`}</option>)}</datalist>
    </form>
  );
}

function Sweeping({ asked, swept, running, onAgain }: { asked: Asked; swept: Swept; running: boolean; onAgain: () => void }) {
  const client = useQueryClient();
  const { data } = useSweepProgress(asked, swept, running);
  return <Working doing="Running the drill for each cell" stopped="Stopped before all was swept." called="How many cells have been computed" again="Sweep on" running={running} done={data} waits={data?.waits} onStop={() => void client.cancelQueries({ queryKey: answerKey(asked, "sweep", swept) })} onAgain={onAgain} />;
}

function Heat({ planKey, answer, reading }: { planKey: string; answer: SweptAnswer; reading: string }) {
  const [first, second] = answer.axes;
  const columns = second?.values ?? [NaN];
  const front = new Set(answer.front.map(([row, column]) => `${row} ${column}`));
  const [chosen, setChosen] = useState<[number, number]>();
  const [row = 0, column = 0] = chosen ?? ownCell(answer) ?? answer.front[0] ?? [];
  const move = (event: KeyboardEvent) => {
    const step = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[event.key];
    if (!step || !first) return;
    event.preventDefault();
    const next: [number, number] = [clamp(row + (step[0] ?? 0), first.values.length), clamp(column + (step[1] ?? 0), columns.length)];
    setChosen(next);
    window.document.getElementById(`cell ${next.join(" ")}`)?.focus();
  };
  if (!first) return null;
  return (
    <div className="grid items-start gap-x-8 gap-y-4 lg:grid-cols-[minmax(0,max-content)_280px]">
      <div className="relative max-w-full overflow-x-auto" role="group" aria-label="Heat map" onKeyDown={move}>
        <table className="border-separate border-spacing-[3px] text-right tabular-nums" data-testid="heat">
          <caption className="mb-1 text-left text-[12px] text-ink-soft">{readingWords(reading)}; down: <b className="font-mono">{first.path}</b>{second && <>, across: <b className="font-mono">{second.path}</b></>}</caption>
          {second && <thead><tr><td />{columns.map((one) => <th key={one} scope="col" className="px-1 text-[12px] font-normal text-ink-soft">{one}</th>)}</tr></thead>}
          <tbody>
            {answer.values.map((values, at) => (
              <tr key={at}>
                <th scope="row" className="pr-2 text-[12px] font-normal text-ink-soft">{first.values[at]}</th>
                {values.map((value, place) => {
                  const now = isNow(answer.axes, at, place);
                  const best = front.has(`${at} ${place}`);
                  const here = at === row && place === column;
                  return (
                    <td key={place} className="p-0">
                      <button
                        type="button"
                        id={`cell ${at} ${place}`}
                        tabIndex={here ? 0 : -1}
                        aria-pressed={here}
                        aria-label={cellWords(answer, reading, at, place, { now, best })}
                        className={`relative min-h-8 min-w-20 w-full rounded border px-2 ${here ? "border-ink outline-2 outline-ink" : best ? "border-moss" : "border-line"}`}
                        style={{ background: `color-mix(in srgb, var(--vermilion) ${Math.round(strength(answer.values, value) * 45)}%, var(--panel))` }}
                        onClick={() => setChosen([at, place])}
                      >
                        {best && <span className="absolute top-0 left-1 text-[10px] text-moss" aria-hidden="true">◆</span>}
                        {shownReading(reading, value)}
                        {now && <span className="block text-[10px] leading-3" aria-hidden="true">now</span>}
                      </button>
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
        <p className="mt-1 text-[12px] text-ink-soft"><span className="text-moss">◆</span> no other cell has both less of it and fewer probes</p>
      </div>
      <Chosen planKey={planKey} answer={answer} reading={reading} row={row} column={column} />
    </div>
  );
}

/** The cell that the plan is in now, if it is one of them. */
function ownCell({ axes, values }: SweptAnswer): [number, number] | undefined {
  const every = values.flatMap((cells, row) => cells.map((_, column): [number, number] => [row, column]));
  return every.find(([row, column]) => isNow(axes, row, column));
}

function clamp(place: number, count: number): number {
  return Math.min(Math.max(place, 0), count - 1);
}

function cellWords({ axes, values }: SweptAnswer, reading: string, row: number, column: number, { now, best }: { now: boolean; best: boolean }): string {
  const at = axes.map((axis, place) => `${axis.path} ${axis.values[place === 0 ? row : column]}`).join(", ");
  return `${at}: ${values[row]?.[column] === null ? "cannot be run" : shownReading(reading, values[row]?.[column] ?? null)}${now ? ", as the plan is now" : ""}${best ? ", on the front" : ""}`;
}

/** What the chosen cell comes to, and the click that makes the plan so. */
function Chosen({ planKey, answer, reading, row, column }: { planKey: string; answer: SweptAnswer; reading: string; row: number; column: number }) {
  const { edit } = useEdit(planKey);
  const lines: [string, string][] = [
    ...answer.axes.map((axis, place): [string, string] => [axis.path, `${axis.values[place === 0 ? row : column]}`]),
    [readingWords(reading), shownReading(reading, answer.values[row]?.[column] ?? null)],
    ["probes", `${amount(answer.probe_rps[row]?.[column] ?? 0)}/s`],
    ["false alarms", `${amount(answer.false_alarms_per_day[row]?.[column] ?? 0)} a day`],
  ];
  return (
    <aside aria-label="The chosen cell" className="rounded border border-line bg-panel p-3" data-testid="chosen">
      {lines.map(([words, value]) => <p key={words} className="flex justify-between gap-3 border-b border-dotted border-line py-0.5"><span className="min-w-0 break-words text-ink-soft">{words}</span><span className="font-semibold tabular-nums">{value}</span></p>)}
      <p className="my-2 text-[12px] text-ink-soft">False alarms: as many fails in a row as take a target out, if 1 probe in 1,000 fails by chance.</p>
      {answer.values[row]?.[column] === null && <p className="mb-2 text-vermilion-text">The plan cannot be run so.</p>}
      {isNow(answer.axes, row, column) ? <p className="text-ink-soft">The plan is so now.</p> : <Button tone="main" disabled={edit.isPending} onClick={() => edit.mutate(adopting(answer.axes, row, column))}>Use these values</Button>}
    </aside>
  );
}
