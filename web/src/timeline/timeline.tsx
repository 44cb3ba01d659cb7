import { Pause, Play, StepBack, StepForward } from "lucide-react";
import { memo, useEffect, useMemo, useRef, type KeyboardEvent, type PointerEvent } from "react";

import type { DrillAnswer, PlanDocument, Schemas, Strip } from "../api/client";
import { amount, clock, span } from "../kit/format";
import { IconButton } from "../kit/parts";
import { useSize } from "../kit/use-size";
import { nextEvent } from "./moving";
import { busySeconds, timeAxis, type TimeAxis } from "./axis";
import { stack, zoneTone } from "./stack";

const LABEL_WIDTH = 138;
const RIGHT = 14;
const AXIS_Y = 18;
const FLAG_Y = 24;
const CHART_Y = 46;
const CHART_HEIGHT = 92;
const STRIP_Y = CHART_Y + CHART_HEIGHT + 10;
const STRIP_HEIGHT = 9;
const HEIGHT = STRIP_Y + 2 * STRIP_HEIGHT + 12;

interface TimelineProps {
  document: PlanDocument;
  drill: DrillAnswer;
  at: number | undefined;
  strip: Strip | undefined;
  playing: boolean;
  onAt: (second: number) => void;
  onPlay: (playing: boolean) => void;
  onDrill: (name: string) => void;
}

/** The time line at the foot: script, served rate by zone, failures, truth and belief, and the cursor that moves it all. */
export const Timeline = memo(function Timeline(props: TimelineProps) {
  const { document, drill, at, strip } = props;
  const { frame, width } = useSize();
  const axis = useMemo(
    () => timeAxis(busySeconds(drill.series.t_s, drill.moving, drill.lasts_s), drill.lasts_s, LABEL_WIDTH, Math.max(width - RIGHT, LABEL_WIDTH + 100)),
    [drill, width],
  );
  usePlaying(props);
  return (
    <section className="relative shrink-0 border-t border-line-strong bg-foot" aria-label="Time line" data-testid="timeline">
      <Labels {...props} />
      <div ref={frame} className="relative" style={{ height: HEIGHT }}>
        {width > 0 && (
          <>
            <Chart document={document} drill={drill} strip={strip} axis={axis} width={width} />
            <Cursor axis={axis} drill={drill} at={at} onAt={props.onAt} />
          </>
        )}
      </div>
    </section>
  );
});

/** While playing, the cursor runs ten seconds a second, and waits at the end. */
export function usePlaying({ playing, at, drill, onAt, onPlay }: Pick<TimelineProps, "playing" | "at" | "drill" | "onAt" | "onPlay">) {
  const position = useRef(at ?? 0);
  useEffect(() => {
    position.current = at ?? 0;
  }, [at]);
  useEffect(() => {
    if (!playing) return;
    const timer = setInterval(() => {
      const next = position.current + 1;
      if (next >= drill.lasts_s) onPlay(false);
      onAt(Math.min(next, drill.lasts_s));
    }, 100);
    return () => clearInterval(timer);
  }, [playing, drill, onAt, onPlay]);
}

function Labels({ document, drill, at, strip, playing, onPlay, onAt, onDrill }: TimelineProps) {
  const step = (by: number) => onAt(drill.series.t_s[nextEvent(drill.series.t_s, at ?? 0, by)] ?? 0);
  return (
    <div className="pointer-events-none absolute inset-y-0 left-0 z-10" style={{ width: LABEL_WIDTH - 6 }}>
      <div className="pointer-events-auto absolute top-1.5 left-2 right-0">
        <select
          aria-label="Drill"
          className="min-h-6 w-full appearance-none truncate rounded border border-transparent bg-transparent px-1 text-[12px] font-semibold hover:border-line-strong"
          title={drill.title || drill.name}
          value={drill.name}
          onChange={(event) => onDrill(event.target.value)}
        >
          {document.drills.map((one) => (
            <option key={one.name} value={one.name} className="bg-panel text-ink">
              {one.title || one.name}
            </option>
          ))}
        </select>
        <div className="mt-0.5 flex items-center gap-0.5 pl-1">
          <IconButton quiet label="Event before (,)" onClick={() => step(-1)}>
            <StepBack size={15} />
          </IconButton>
          <IconButton quiet label={playing ? "Pause (space)" : "Play (space)"} onClick={() => onPlay(!playing)}>
            {playing ? <Pause size={15} /> : <Play size={15} />}
          </IconButton>
          <IconButton quiet label="Next event (.)" onClick={() => step(1)}>
            <StepForward size={15} />
          </IconButton>
        </div>
        <p className="pl-1.5 text-[11px] text-ink-soft">{at === undefined ? `lasts ${span(drill.lasts_s)}` : `${clock(at)} of ${span(drill.lasts_s)}`}</p>
      </div>
      <p className="absolute left-3 text-[11px] leading-tight" style={{ top: CHART_Y + CHART_HEIGHT / 2 - 2 }}>
        served, by zone
        <br />
        <b className="font-semibold text-vermilion-text">failed {amount(drill.readings.failed)}</b>
      </p>
      {strip && (
        <p className="absolute left-3 truncate text-[11px] leading-[11px]" style={{ top: STRIP_Y - 1, width: LABEL_WIDTH - 18 }}>
          {strip.target} truly
          <br />
          believed
        </p>
      )}
    </div>
  );
}

function Chart({ document, drill, strip, axis, width }: { document: PlanDocument; drill: DrillAnswer; strip: Strip | undefined; axis: TimeAxis; width: number }) {
  const layers = useMemo(() => stack(drill.series, drill.lasts_s, axis, CHART_HEIGHT), [drill, axis]);
  const flags = flagsOf(document, drill);
  return (
    <svg width={width} height={HEIGHT} className="block" role="img" aria-label={chartWords(drill)}>
      <defs>
        <pattern id="foot-hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="5" height="5" fill="var(--vermilion-fill)" />
          <line x1="0" y1="0" x2="0" y2="5" stroke="var(--vermilion)" strokeWidth="1.6" strokeOpacity="0.6" />
        </pattern>
      </defs>
      <line x1={LABEL_WIDTH} x2={width - RIGHT} y1={AXIS_Y} y2={AXIS_Y} stroke="var(--line-strong)" />
      {axis.ticks.map((second) => (
        <g key={second} transform={`translate(${axis.x(second)},0)`}>
          <line y1={AXIS_Y - 4} y2={AXIS_Y} stroke="var(--line-strong)" />
          <text y={AXIS_Y - 6} textAnchor="middle" className="fill-ink-soft font-mono text-[10px]">{clock(second)}</text>
        </g>
      ))}
      <g transform={`translate(0,${CHART_Y})`}>
        {layers.map((layer, index) =>
          layer.failed ? (
            <g key={layer.name}>
              <path d={layer.path} fill="var(--vermilion-fill)" />
              <path d={layer.path} fill="var(--vermilion)" fillOpacity={0.75} data-testid="failed-layer" />
            </g>
          ) : (
            <g key={layer.name}>
              <path d={layer.path} fill={zoneTone(index)} stroke="var(--foot)" strokeWidth={0.5} />
              {layer.labelY !== null && (
                <text x={LABEL_WIDTH + 8} y={layer.labelY + 4} className="fill-ink text-[11px]">
                  {layer.name}
                </text>
              )}
            </g>
          ),
        )}
      </g>
      {flags.map((flag) => (
        <Flag key={flag.at + flag.text} flag={flag} axis={axis} />
      ))}
      {axis.breaks.map((one) => (
        <g key={one.from} transform={`translate(${one.x},0)`}>
          <path d={`M-3,${AXIS_Y - 3}L0,${AXIS_Y + 3}M1,${AXIS_Y - 3}L4,${AXIS_Y + 3}`} stroke="var(--ink-soft)" fill="none" />
          <rect x={-5} y={CHART_Y} width={10} height={CHART_HEIGHT} fill="var(--foot)" />
          <path d={`M-5,${CHART_Y}V${CHART_Y + CHART_HEIGHT}M5,${CHART_Y}V${CHART_Y + CHART_HEIGHT}`} stroke="var(--line-strong)" strokeDasharray="2 3" />
          <text y={AXIS_Y - 6} textAnchor="middle" className="fill-ink-soft font-mono text-[10px]">{span(one.to - one.from)}</text>
        </g>
      ))}
      {strip && <StripRows strip={strip} axis={axis} />}
    </svg>
  );
}

export interface FlagData {
  at: number;
  text: string;
  back: boolean;
  /** Its place in the script. */
  step: number;
}

export function flagsOf(document: PlanDocument, drill: DrillAnswer): FlagData[] {
  const steps = document.drills.find((one) => one.name === drill.name)?.steps ?? [];
  return steps.map((step, index) => ({
    step: index,
    at: step.at_s,
    text: stepWords(step),
    back: Boolean(step.restore ?? step.undrain),
  }));
}

function stepWords(step: Schemas["Step"]): string {
  const part = step.fail ?? step.restore;
  if (part) {
    if (part.firewall) return `${part.firewall} rule ${(part.rule ?? 0) + 1} ${step.fail ? "gone" : "back"}`;
    const name = part.zone ?? part.region ?? part.instance ?? part.process ?? part.front?.zone ?? part.page ?? part.slow ?? part.fault_domain ?? part.link?.join(" – ") ?? `wave ${part.maintenance_wave}`;
    return `${name} ${step.fail ? "lost" : "back"}`;
  }
  if (step.surge) return `${step.surge.clients} × ${step.surge.factor}`;
  if (step.scale) return `${step.scale.fleet} to ${step.scale.count}`;
  if (step.remove) return `${step.remove.instance} ended`;
  if (step.expire) return `${step.expire.certificate} expires`;
  if (step.change_answers ?? step.withdraw) return "record changed";
  if (step.roll) return `${step.roll.group} rolled`;
  return step.drain ? `${step.drain.instance} leaves` : `${step.undrain?.instance ?? ""} returns`;
}

function Flag({ flag, axis }: { flag: FlagData; axis: TimeAxis }) {
  const x = axis.x(flag.at);
  const width = flag.text.length * 6.1 + 10;
  return (
    <g>
      <line x1={x} x2={x} y1={AXIS_Y} y2={HEIGHT - 6} stroke={flag.back ? "var(--moss)" : "var(--vermilion)"} strokeDasharray="2 4" />
      <rect x={x} y={FLAG_Y - 1} width={width} height={17} fill={flag.back ? "var(--moss)" : "var(--vermilion)"} />
      <text x={x + 5} y={FLAG_Y + 11} className="fill-panel text-[11px] font-semibold">{flag.text}</text>
    </g>
  );
}

function StripRows({ strip, axis }: { strip: Strip; axis: TimeAxis }) {
  const lowerY = STRIP_Y + STRIP_HEIGHT + 2;
  return (
    <g data-testid="strip" data-target={strip.target}>
      {strip.pieces.map((piece) => {
        const x = axis.x(piece.from_s);
        const width = Math.max(axis.x(piece.to_s) - x, 0.5);
        const up = piece.truth === "answers" || piece.truth === "slow";
        const believed = piece.believed_in > 0;
        return (
          <g key={piece.from_s}>
            <rect x={x} y={STRIP_Y} width={width} height={STRIP_HEIGHT} fill={up ? "var(--moss)" : "var(--lost)"} stroke={up ? undefined : "var(--line-strong)"} strokeWidth={0.5} />
            <rect x={x} y={lowerY} width={width} height={STRIP_HEIGHT} fill={piece.wrong ? "url(#foot-hatch)" : believed ? "var(--moss)" : "var(--lost)"}>
              <title>{`${piece.truth}; ${piece.believed_in} of ${piece.believed_of} fronts believe it in use (${clock(piece.from_s)} to ${clock(piece.to_s)})`}</title>
            </rect>
          </g>
        );
      })}
    </g>
  );
}

function chartWords(drill: DrillAnswer): string {
  const readings = drill.readings;
  return `${drill.title || drill.name}: ${Math.round(readings.failed)} of ${Math.round(readings.requests)} requests fail; longest blind time ${readings.worst_blind_s} s`;
}

export function Cursor({ axis, drill, at, onAt, left = LABEL_WIDTH }: { axis: TimeAxis; drill: DrillAnswer; at: number | undefined; onAt: (second: number) => void; left?: number }) {
  const dragging = useRef(false);
  const move = (event: PointerEvent<HTMLDivElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    onAt(Math.round(axis.second(event.clientX - box.left)));
  };
  const onKey = (event: KeyboardEvent) => {
    const by = { ArrowRight: 1, ArrowLeft: -1, PageDown: 10, PageUp: -10 }[event.key];
    const to = event.key === "Home" ? 0 : event.key === "End" ? drill.lasts_s : by && (at ?? 0) + by;
    if (to === undefined) return;
    event.preventDefault();
    onAt(Math.min(Math.max(to, 0), drill.lasts_s));
  };
  const x = at === undefined ? undefined : axis.x(at);
  return (
    <div
      className="absolute inset-y-0 right-0 left-0 cursor-ew-resize touch-none"
      style={{ clipPath: `inset(0 0 0 ${left - 8}px)` }}
      role="slider"
      tabIndex={0}
      aria-label="Second of the drill"
      aria-valuemin={0}
      aria-valuemax={drill.lasts_s}
      aria-valuenow={at ?? 0}
      aria-valuetext={at === undefined ? "now, outside the drill" : clock(at)}
      onKeyDown={onKey}
      onPointerDown={(event) => {
        dragging.current = true;
        event.currentTarget.setPointerCapture(event.pointerId);
        move(event);
      }}
      onPointerMove={(event) => dragging.current && move(event)}
      onPointerUp={() => {
        dragging.current = false;
      }}
    >
      {x !== undefined && (
        <div className="pointer-events-none absolute top-3 bottom-1 w-px bg-ink" style={{ left: x }}>
          <span className="absolute -top-0.5 -left-[5px] size-[11px] rounded-full bg-ink" />
          <span className="absolute -bottom-0.5 left-1/2 -translate-x-1/2 rounded bg-ink px-1.5 font-mono text-[10px] text-paper">{clock(at ?? 0)}</span>
        </div>
      )}
    </div>
  );
}
