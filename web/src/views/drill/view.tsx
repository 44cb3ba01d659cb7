import { useQueryClient } from "@tanstack/react-query";
import { Pause, Play, Plus, StepBack, StepForward, Trash2, Wrench } from "lucide-react";
import { useMemo, useState, type PointerEvent } from "react";

import type { DrillAnswer, FoldedStrip, PlanDocument, Schemas, Strip } from "../../api/client";
import { Trouble } from "../../plan/trouble";
import { amount, clock, percent, seconds, span } from "../../kit/format";
import { ObjectSection } from "../../form/object-section";
import { Copyable } from "../../kit/copyable";
import { Button, IconButton, Skeleton } from "../../kit/parts";
import { Working } from "../../kit/working";
import { onButton, useKey } from "../../kit/keys";
import { useSize } from "../../kit/use-size";
import { removing, setting, useEdit, type Operation } from "../../plan/edit";
import { useDrill, useFoldedStrips, useLevers, usePhases, usePlan, useProgress, useStrips, answerKey, type Asked } from "../../plan/queries";
import { busySeconds, timeAxis } from "../../timeline/axis";
import { nextEvent } from "../../timeline/moving";
import { Cursor, usePlaying } from "../../timeline/timeline";
import { Charts, rowsOf } from "./charts";
import { LEFT, RIGHT, rowAt } from "./layout";
import { sayRow } from "./readout";
import { addingFault, drillPlace, happenings, movingStep, usualFaults } from "./script";
import { Link, useRoute } from "../../plan/route";

const MOST_STRIPS = 12;

/** What happens, second by second: a drill with its script, its charts, and what it comes to. */
export function DrillView() {
  const { params: { key }, search, say } = useRoute("/plans/:key/drill");
  const plan = usePlan(key);
  const document = plan.data?.document;
  const asked: Asked = { key, revision: plan.data?.head.revision };
  const known = document?.drills.some((one) => one.name === search.drill);
  const name = known ? search.drill : document?.drills[0]?.name;
  const drill = useDrill(asked, name, true);
  const strips = useStrips(asked, name, undefined, drill.data !== undefined, true);
  const change = (changes: { drill?: string | undefined; at?: number | undefined }) => say((before) => ({ ...before, ...changes }), changes.drill === undefined);
  const error = plan.error ?? drill.error;
  if (error) return <main id="main" className="flex-1 overflow-y-auto"><Trouble error={error} document={document} /></main>;
  if (!document) return <Skeleton className="flex-1 p-8" />;
  if (name === undefined) return <NoDrill planKey={key} />;
  if (!drill.data) return <Running asked={asked} name={name} lasts={document.drills.find((one) => one.name === name)?.lasts_s ?? 900} running={drill.isFetching} onAgain={() => void drill.refetch()} />;
  return <Drilled key={name} name={name} planKey={key} asked={asked} document={document} drill={drill.data} strips={strips.data ?? []} known={strips.data !== undefined} at={search.at} onAt={(at) => change({ at })} onDrill={(one) => change({ drill: one, at: undefined })} />;
}

function NoDrill({ planKey }: { planKey: string }) {
  return (
    <main id="main" className="flex flex-col items-start gap-3 p-8">
      <h1 className="text-xl font-semibold">No drill yet</h1>
      <p className="max-w-prose text-ink-soft">A drill loses parts of the plan at certain seconds and brings them back: second by second you see what fails, who notices when, and whether it holds what you expect.</p>
      <Link to="/plans/:key/board" params={{ key: planKey }} search={{ add: "drill" }} className="rounded border border-north bg-north px-2 py-0.5 font-medium text-panel">
        Add a drill
      </Link>
    </main>
  );
}

/** How far the drill has been run, while that takes its time; it can be stopped, and begun again. */
function Running({ asked, name, lasts, running, onAgain }: { asked: Asked; name: string; lasts: number; running: boolean; onAgain: () => void }) {
  const client = useQueryClient();
  const progress = useProgress(asked, name, running);
  return (
    <div className="p-8">
      <Working doing="Running the drill" stopped="Stopped before its end." called="How far the drill has been run" again="Run it" running={running} done={(progress.data?.reached_s ?? 0) / lasts} waits={progress.data?.waits} onStop={() => void client.cancelQueries({ queryKey: answerKey(asked, "drill", name) })} onAgain={onAgain} />
    </div>
  );
}

interface DrilledProps {
  name: string;
  planKey: string;
  asked: Asked;
  document: PlanDocument;
  drill: DrillAnswer;
  strips: Strip[];
  /** Whether truth and belief have been worked out yet. */
  known: boolean;
  at: number | undefined;
  onAt: (second: number) => void;
  onDrill: (name: string | undefined) => void;
}

function Drilled(props: DrilledProps) {
  const { name, planKey, asked, document, drill, at, onAt, onDrill } = props;
  const { edit } = useEdit(planKey);
  const { frame, width } = useSize();
  const [playing, setPlaying] = useState(false);
  const axis = useMemo(() => timeAxis(busySeconds(drill.series.t_s, drill.moving, drill.lasts_s), drill.lasts_s, LEFT, Math.max(width - RIGHT, LEFT + 100)), [drill, width]);
  const shown = useMemo(() => worstStrips(props.strips), [props.strips]);
  const wrong = useMemo(() => props.strips.filter((strip) => strip.pieces.some((piece) => piece.wrong)).length, [props.strips]);
  const [folds, setFolds] = useState<boolean>();
  const folded = folds ?? wrong > MOST_STRIPS;
  const cells = useFoldedStrips(asked, name, folded && drill.name === name);
  const phases = usePhases(asked, name, drill.name === name && drill.readings.failed >= 1);
  const [look, setLook] = useState<{ row: string; second?: number }>({ row: "Served" });
  const layout = { document, drill, phases: phases.data ?? [], strips: folded ? [] : shown, cells: folded ? changing(cells.data ?? []) : [], axis, width };
  const rows = rowsOf(layout);
  const looked = rows.find((row) => row.name === look.row) ?? rows[0];
  const lookAt = (event: PointerEvent<HTMLDivElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    const row = rowAt(rows, event.clientY - box.top);
    if (row) setLook({ row: row.name, second: Math.round(axis.second(event.clientX - box.left)) });
  };
  const [step, setStep] = useState<number>();
  const place = drillPlace(document, name);
  const remove = (one: number) => {
    setStep(undefined);
    if (place !== undefined) edit.mutate([removing(`${place}/steps/${one}`)]);
  };
  usePlaying({ playing, at, drill, onAt, onPlay: setPlaying });
  useEventKeys(drill, at, onAt, () => setPlaying((on) => !on));
  return (
    <div className="flex min-h-0 flex-1 max-md:flex-col-reverse max-md:justify-end max-md:overflow-y-auto print:flex-col-reverse">
      <aside className="flex w-[264px] shrink-0 flex-col overflow-y-auto border-r border-line-strong bg-panel px-4 pt-3 pb-6 *:shrink-0 max-md:w-full max-md:border-r-0 max-md:border-t print:w-full print:overflow-visible" aria-label="Outcome">
        <select aria-label="Drill" className="min-h-8 rounded border border-line-strong bg-panel px-1 text-[15px] font-semibold" value={drill.name} onChange={(event) => onDrill(event.target.value)}>
          {document.drills.map((one) => (
            <option key={one.name} value={one.name}>{one.title || one.name}</option>
          ))}
        </select>
        <Phases document={document} drill={drill} onChange={(patch) => edit.mutate(patch)} />
        {step !== undefined && <StepSection planKey={planKey} document={document} drill={name} step={step} onRemove={remove} onClose={() => setStep(undefined)} />}
        <Expectations drill={drill} />
        <Levers planKey={planKey} asked={asked} drill={drill} />
        <Events drill={drill} at={at} onAt={onAt} />
        <ScriptSection planKey={planKey} document={document} drill={name} at={at} onRenamed={onDrill} onDeleted={() => onDrill(undefined)} />
      </aside>
      <main id="main" className="flex min-w-0 flex-1 flex-col max-md:shrink-0" aria-label="Drill">
        <div className="flex shrink-0 flex-wrap items-center gap-x-3 gap-y-1 border-b border-line px-4 py-2">
          <h1 className="min-w-0 flex-1 basis-72 font-semibold [text-wrap:pretty]" data-testid="summary">{drill.summary}</h1>
          <span className="flex shrink-0 items-center gap-0.5">
            <IconButton quiet label="Event before (,)" onClick={() => onAt(drill.series.t_s[nextEvent(drill.series.t_s, at ?? 0, -1)] ?? 0)}><StepBack size={15} /></IconButton>
            <IconButton quiet label={playing ? "Pause (space)" : "Play (space)"} onClick={() => setPlaying(!playing)}>{playing ? <Pause size={15} /> : <Play size={15} />}</IconButton>
            <IconButton quiet label="Next event (.)" onClick={() => onAt(drill.series.t_s[nextEvent(drill.series.t_s, at ?? 0, 1)] ?? 0)}><StepForward size={15} /></IconButton>
          </span>
          <AddFault document={document} drill={drill} at={at} onAdd={(patch) => edit.mutate(patch)} />
          {at !== undefined && (
            <Link to="/plans/:key/board" params={{ key: planKey }} search={{ drill: drill.name, at }} className="shrink-0 rounded border border-line-strong bg-panel px-2 py-0.5 font-medium hover:border-ink">
              Second {Math.round(at)} on the board
            </Link>
          )}
        </div>
        <div className="min-h-0 flex-1 overflow-auto py-2 print:overflow-visible">
          <div ref={frame} className="relative min-w-[560px]" onPointerMove={lookAt} onPointerLeave={() => setLook({ row: look.row })}>
            {width > 0 && (
              <>
                <Charts {...layout} known={props.known} at={at} onRow={(row) => setLook({ row })} chosen={step} onChoose={setStep} onMove={(one, second) => edit.mutate(movingStep(document, drill.name, one, second))} onRemove={remove} />
                <CursorBeneathFlags axis={axis} drill={drill} at={at} onAt={onAt} />
              </>
            )}
          </div>
          {wrong > 0 && (
            <p className="flex items-center gap-2 px-3 pl-[120px] text-[12px] text-ink-soft">
              <Button className="text-[12px]" onClick={() => setFolds(!folded)}>{folded ? "Target by target" : "By group and zone"}</Button>
              {!folded && wrong > shown.length && `the ${MOST_STRIPS} of ${wrong} targets that were believed wrongly for longest`}
            </p>
          )}
        </div>
        {looked && (
          <p className="shrink-0 truncate border-t border-line bg-panel px-4 py-1 text-[12px]" data-testid="readout" title="what is under the pointer, or has the focus, at this second">
            {sayRow(looked.name, look.second ?? at ?? 0, looked.explain)}
          </p>
        )}
      </main>
    </div>
  );
}

/** The step whose flag is open: its fields, to be changed where they are seen. */
function StepSection({ planKey, document, drill, step, onRemove, onClose }: { planKey: string; document: PlanDocument; drill: string; step: number; onRemove: (step: number) => void; onClose: () => void }) {
  const found = document.drills.find((one) => one.name === drill)?.steps[step];
  if (!found) return null;
  return (
    <section className="mt-3 rounded border border-north bg-paper px-2.5 pt-2 pb-2.5" aria-label="Step" data-testid="step">
      <ObjectSection key={step} planKey={planKey} document={document} kind="drill" name={drill} title={`Step at ${clock(found.at_s)}`} inside={{ path: `/steps/${step}`, definition: "Step" }} />
      <span className="mt-2 flex gap-2">
        <Button tone="danger" className="text-[12px]" onClick={() => onRemove(step)}>
          <Trash2 size={12} aria-hidden="true" /> Take it out
        </Button>
        <Button className="text-[12px]" onClick={onClose}>Done</Button>
      </span>
    </section>
  );
}

/** The whole script with what is expected of the drill, folded away: the flags say most of it. */
function ScriptSection({ planKey, document, drill, at, onRenamed, onDeleted }: { planKey: string; document: PlanDocument; drill: string; at: number | undefined; onRenamed: (name: string) => void; onDeleted: () => void }) {
  return (
    <details className="mt-5">
      <summary className="min-h-6 cursor-pointer font-semibold">Script and expectations</summary>
      <ObjectSection key={drill} planKey={planKey} document={document} kind="drill" name={drill} title="" leaveOut={["phases"]} at={at} onRenamed={onRenamed} onDeleted={onDeleted} />
      <p className="mt-3 text-[12px] text-ink-soft">
        The same on the command line: <Copyable text={`northgate drill ${planKey}.plan.yaml ${drill}`} />
      </p>
    </details>
  );
}

const PHASES = { spread: "probes evenly spread", best: "probes notice first", worst: "probes notice last" } as const;

/** How long the drill lasts, and where in their cycles its probes are when things break. */
function Phases({ document, drill, onChange }: { document: PlanDocument; drill: DrillAnswer; onChange: (patch: Operation[]) => void }) {
  const place = drillPlace(document, drill.name);
  const settings = document.drills.find((one) => one.name === drill.name);
  return (
    <p className="mt-1 flex items-center gap-1 text-[12px] text-ink-soft">
      {span(drill.lasts_s)} ·
      <select aria-label="Where probes are in their cycles" className="min-h-6 min-w-0 flex-1 rounded border border-transparent bg-panel hover:border-line-strong" value={settings?.phases ?? "spread"} onChange={(event) => place !== undefined && onChange([setting(`${place}/phases`, event.target.value)])}>
        {Object.entries(PHASES).map(([name, words]) => (
          <option key={name} value={name}>{words}</option>
        ))}
      </select>
    </p>
  );
}

/** The cursor over the charts; the flags above them stay free to be dragged. */
function CursorBeneathFlags({ axis, drill, at, onAt }: { axis: ReturnType<typeof timeAxis>; drill: DrillAnswer; at: number | undefined; onAt: (second: number) => void }) {
  return (
    <div className="absolute inset-x-0 top-[46px] bottom-8">
      <Cursor axis={axis} drill={drill} at={at} onAt={onAt} left={LEFT} />
    </div>
  );
}

/** The groups and zones in which anything was down or believed to be. */
function changing(cells: FoldedStrip[]): FoldedStrip[] {
  return cells.filter((cell) => cell.targets.some((targets, index) => cell.up[index] !== targets || cell.believed[index] !== targets));
}

/** The strips with the longest wrong stretches, those of a group together. */
function worstStrips(strips: Strip[]): Strip[] {
  const wrong = (strip: Strip) => strip.pieces.reduce((sum, piece) => sum + (piece.wrong ? piece.to_s - piece.from_s : 0), 0);
  const chosen = strips.filter((one) => wrong(one) > 0).sort((a, b) => wrong(b) - wrong(a)).slice(0, MOST_STRIPS);
  return strips.filter((one) => chosen.includes(one));
}

function useEventKeys(drill: DrillAnswer, at: number | undefined, onAt: (second: number) => void, play: () => void) {
  const times = drill.series.t_s;
  useKey("nextEvent", () => onAt(times[nextEvent(times, at ?? 0, 1)] ?? 0));
  useKey("eventBefore", () => onAt(times[nextEvent(times, at ?? 0, -1)] ?? 0));
  useKey("play", () => !onButton() && play());
}

function inUnit(reading: string, value: number): string {
  if (/_share|utilisation/.test(reading)) return percent(value);
  if (reading.endsWith("_ms")) return `${amount(value)} ms`;
  return reading.endsWith("_s") ? seconds(value) : amount(value);
}

/** What was expected, held or not; without expectations the main readings. */
function Expectations({ drill }: { drill: DrillAnswer }) {
  const held = drill.expect.filter((one) => one.held).length;
  const { readings } = drill;
  const plain: [string, number][] = [["failed_share", readings.failed_share], ["worst_blind_s", readings.worst_blind_s], ["settled_s", readings.settled_s], ["peak_utilisation", readings.peak_utilisation]];
  return (
    <section className="mt-4" aria-label="Expectations">
      <h2 className="mb-1.5 font-semibold">{drill.expect.length ? `Held ${held} of ${drill.expect.length} expectations` : "It comes to"}</h2>
      <ul className="space-y-1.5">
        {drill.expect.map((one) => (
          <li key={one.reading + one.wanted} className={`flex items-center justify-between rounded border px-3 py-1 ${one.held ? "border-line" : "border-vermilion bg-vermilion-fill/40"}`}>
            <span className="text-[12px] leading-tight text-ink-soft">
              {one.reading.replaceAll("_", " ").replace(/ (s|ms)$/, "")}
              <br />
              {one.wanted} · {one.held ? "held" : "not held"}
            </span>
            <b className={`text-[15px] font-semibold ${one.held ? "text-moss" : "text-vermilion-text"}`}>{inUnit(one.reading, one.got)}</b>
          </li>
        ))}
        {drill.expect.length === 0 &&
          plain.map(([name, value]) => (
            <li key={name} className="flex justify-between">
              <span className="text-ink-soft">{name.replaceAll("_", " ").replace(/ s$/, "")}</span> <b className="font-semibold">{name === "settled_s" && !readings.settled ? "not by its end" : inUnit(name, value)}</b>
            </li>
          ))}
      </ul>
    </section>
  );
}

/** Settings that would have helped, each applied with one click; they are worked out when somebody asks. */
function Levers({ planKey, asked, drill }: { planKey: string; asked: Asked; drill: DrillAnswer }) {
  const [wanted, setWanted] = useState(false);
  const levers = useLevers(asked, drill.name, wanted);
  const { edit } = useEdit(planKey);
  if (drill.readings.failed < 1) return null;
  return (
    <section className="mt-4" aria-label="Levers">
      <h2 className="mb-1.5 font-semibold">What would have helped</h2>
      {!wanted && <Button className="text-[12px]" onClick={() => setWanted(true)}>Work it out</Button>}
      {wanted && levers.isPending && (
        <p className="flex items-center justify-between text-[12px] text-ink-soft">
          Trying one setting after the other … <Button className="text-[12px]" onClick={() => setWanted(false)}>Stop</Button>
        </p>
      )}
      {levers.data?.length === 0 && <p className="text-[12px] text-ink-soft">No single setting would have.</p>}
      <ul className="space-y-1.5">
        {wanted && levers.data?.map((one) => <Lever key={one.words} lever={one} onApply={() => edit.mutate(one.patch as unknown as Operation[])} />)}
      </ul>
    </section>
  );
}

function Lever({ lever, onApply }: { lever: Schemas["LeverAnswer"]; onApply: () => void }) {
  return (
    <li>
      <button type="button" className="w-full rounded border border-line-strong px-2.5 py-1 text-left text-[12px] leading-snug hover:border-ink" onClick={onApply}>
        <Wrench size={12} className="mr-1 inline" aria-hidden="true" />
        {lever.words}
        <b className="block font-semibold text-moss">{amount(lever.fewer_failed)} fewer fail</b>
        <span className="text-ink-soft">{lever.price}</span>
      </button>
    </li>
  );
}

const TONES: Record<string, string> = { fail: "bg-vermilion", cascade: "bg-vermilion", scale: "bg-north", restore: "bg-moss", undrain: "bg-moss", surge: "bg-ochre", drain: "bg-ochre", answer: "bg-ochre", scaled: "bg-north", roll: "bg-ochre", rolled: "bg-moss", remove: "bg-vermilion", expire: "bg-vermilion", change_answers: "bg-ochre" };

function Events({ drill, at, onAt }: { drill: DrillAnswer; at: number | undefined; onAt: (second: number) => void }) {
  return (
    <section className="mt-4" aria-label="What happened">
      <h2 className="mb-1.5 font-semibold">What happened</h2>
      <ol className="space-y-0.5">
        {happenings(drill.events).map((event, index) => (
          <li key={index}>
            <button type="button" className={`grid min-h-6 w-full grid-cols-[40px_8px_1fr] items-baseline gap-2 rounded px-1 text-left text-[12px] leading-snug hover:bg-line/50 ${at !== undefined && at >= event.from_s && at <= event.to_s ? "bg-north-fill" : ""}`} onClick={() => onAt(event.from_s)}>
              <span className="font-mono text-[11px] text-ink-soft">{clock(event.from_s)}</span>
              <span className={`size-2 self-center rounded-full ${TONES[event.kind] ?? "bg-ink"}`} aria-hidden="true" />
              <span>
                {event.words}
                {event.to_s > event.from_s && <span className="text-ink-soft"> until {clock(event.to_s)}</span>}
              </span>
            </button>
          </li>
        ))}
      </ol>
    </section>
  );
}

/** A library of usual faults; the chosen one is added at the cursor. */
function AddFault({ document, drill, at, onAdd }: { document: PlanDocument; drill: DrillAnswer; at: number | undefined; onAdd: (patch: Operation[]) => void }) {
  const faults = usualFaults(document);
  const second = Math.round(at ?? 60);
  return (
    <label className="flex shrink-0 items-center gap-1 text-[12px]">
      <Plus size={12} aria-hidden="true" />
      <select
        aria-label={`Add a fault at ${clock(second)}`}
        className="min-h-7 w-44 rounded border border-line-strong bg-panel px-1"
        value=""
        onChange={(event) => {
          const fault = faults[Number(event.target.value)];
          if (fault) onAdd(addingFault(document, drill.name, fault, second));
        }}
      >
        <option value="">add at {clock(second)} …</option>
        {faults.map((one, index) => (
          <option key={one.words} value={index}>{one.words}</option>
        ))}
      </select>
    </label>
  );
}
