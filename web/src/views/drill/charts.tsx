import { useRef, type ReactNode } from "react";

import type { DrillAnswer, FoldedStrip, PhasesRun, PlanDocument, Strip } from "../../api/client";
import { amount, clock, percent, seconds, span } from "../../kit/format";
import type { TimeAxis } from "../../timeline/axis";
import { layersOf, mostUntilNext, stack, zoneTone, type Layer, type Values } from "../../timeline/stack";
import { Downloads } from "./downloads";
import { Flags } from "./flags";
import { blindFormula } from "./formula";
import { CHART_TOP, GAP, LEFT, RIGHT, type Row } from "./layout";
import { explainFailed, explainLatency, explainServed, explainSessions, explainStale, explainUtilisation, sayRow } from "./readout";
import { Folded, FOLDED_HEIGHT, FOLDED_STEP, lastOfEach, sayStrips, STRIP_STEP, StripPair } from "./strips";
import { MECHANISMS } from "./words";

const MECHANISM_TONES = ["#bf4329", "#8c2f1c", "#b67a17", "#d98a6f", "#6b4a3a", "#5b6671", "#a39a86"];

export interface ChartsProps {
  document: PlanDocument;
  drill: DrillAnswer;
  /** The same drill with its probes elsewhere in their cycles, as far as that has been worked out. */
  phases: PhasesRun[];
  strips: Strip[];
  /** Instead of single targets, when there are many: counts by group and zone. */
  cells: FoldedStrip[];
  axis: TimeAxis;
  width: number;
  at: number | undefined;
  /** Whether truth and belief have been worked out yet. */
  known: boolean;
  chosen: number | undefined;
  onMove: (step: number, at: number) => void;
  onChoose: (step: number | undefined) => void;
  onRemove: (step: number) => void;
  /** Somebody looks at a row with the keyboard. */
  onRow: (name: string) => void;
}

interface Part {
  title: string;
  under: string;
  height: number;
  draw: () => ReactNode;
  explain: (second: number) => string;
}

type Layout = Pick<ChartsProps, "document" | "drill" | "phases" | "strips" | "cells" | "axis" | "width">;

/** Every chart and strip, where it stands, and what its numbers mean. */
export function rowsOf(layout: Layout): Row[] {
  const parts = partsOf(layout);
  const charts = parts.map((part, index) => ({ name: part.title, top: topOf(parts, index), height: part.height, explain: part.explain }));
  const top = topOf(parts, parts.length) + 28;
  const { drill, strips, cells } = layout;
  const targets = strips.map((strip, index) => ({
    name: strip.target,
    top: top + index * STRIP_STEP,
    height: STRIP_STEP,
    explain: (second: number) => {
      const rows = lastOfEach(drill.blind.filter((row) => row.group === strip.group && row.target === strip.target && row.true_at_s <= second));
      const row = rows.at(-1);
      return row ? `${row.change === "down" ? "down" : "back"} at ${clock(row.true_at_s)}, believed wrongly for ${blindFormula(row)}` : "what fronts believe of it is right";
    },
  }));
  const folded = cells.map((cell, index) => ({
    name: `${cell.group} in ${cell.zone}`,
    top: top + index * FOLDED_STEP,
    height: FOLDED_HEIGHT,
    explain: (second: number) => {
      const last = Math.max(cell.t_s.findLastIndex((one) => one <= second), 0);
      return `${cell.up[last] ?? 0} of ${cell.targets[last] ?? 0} targets truly up, ${amount(cell.believed[last] ?? 0)} believed in use`;
    },
  }));
  return [...charts, ...targets, ...folded];
}

function topOf(parts: Part[], index: number): number {
  return CHART_TOP + parts.slice(0, index).reduce((sum, part) => sum + part.height + GAP, 0);
}

/** The charts of a drill under one time axis, from its script down to what was true and what was believed. */
export function Charts(props: ChartsProps) {
  const { drill, axis, width, strips, cells, at, onRow } = props;
  const frame = useRef<SVGSVGElement>(null);
  const parts = partsOf(props);
  const y = topOf(parts, parts.length);
  const stripsTop = y + 8;
  const height = stripsTop + 20 + strips.length * STRIP_STEP + cells.length * FOLDED_STEP + 18;
  return (
    <>
      <svg ref={frame} width={width} height={height} className="block font-sans" role="group" aria-label={drill.summary} data-testid="charts">
        <defs>
          <pattern id="drill-hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="5" height="5" fill="var(--vermilion-fill)" />
            <line x1="0" y1="0" x2="0" y2="5" stroke="var(--vermilion)" strokeWidth="1.6" strokeOpacity="0.6" />
          </pattern>
        </defs>
        <Axis axis={axis} width={width} />
        {parts.map((part, index) => (
          <g key={part.title} transform={`translate(0,${topOf(parts, index)})`} role="img" tabIndex={0} aria-label={sayRow(part.title, at ?? 0, part.explain)} className="focus:outline-none focus-visible:[&>rect]:stroke-ink" onFocus={() => onRow(part.title)}>
            <text x={12} y={14} className="fill-ink text-[12px] font-semibold">{part.title}</text>
            <text x={12} y={28} className="fill-ink-soft text-[11px]">{part.under}</text>
            <rect x={LEFT} width={Math.max(width - LEFT - RIGHT, 0)} height={part.height} rx={3} fill="var(--panel)" stroke="var(--line)" />
            {part.draw()}
          </g>
        ))}
        <Breaks axis={axis} top={CHART_TOP} bottom={y - GAP} />
        <g transform={`translate(0,${stripsTop})`}>
          <text x={12} y={10} className="fill-ink text-[12px] font-semibold">Truth and belief</text>
          <text x={LEFT} y={10} className="fill-ink-soft text-[11px]">{props.known ? sayStrips(strips, cells) : "being worked out …"}</text>
          {strips.map((strip, index) => (
            <StripPair key={strip.group + strip.target} strip={strip} axis={axis} drill={drill} y={20 + index * STRIP_STEP} />
          ))}
          {cells.map((cell, index) => (
            <Folded key={cell.group + cell.zone} cell={cell} axis={axis} lasts={drill.lasts_s} y={20 + index * FOLDED_STEP} />
          ))}
        </g>
        <Flags {...props} height={height} />
      </svg>
      <Downloads drill={drill} svg={() => frame.current} />
    </>
  );
}

function partsOf(layout: Layout): Part[] {
  const { drill, axis } = layout;
  const { series } = drill;
  const total = Math.max(...mostUntilNext({ values: series.asked_rps, before: series.before?.asked_rps }), 1e-9);
  const sessions = Object.entries(series.sessions).filter(([, values]) => values.some((value) => value > 0));
  const latency = { values: series.latency_ms, before: series.before?.latency_ms };
  const slow = Math.max(...mostUntilNext(latency), 1);
  const parts: (Part | undefined)[] = [
    { title: "Served", under: "by zone, /s", height: 104, explain: explainServed(drill), draw: () => <Area layers={stack(series, drill.lasts_s, axis, 104, total)} tone={(index) => zoneTone(index)} named /> },
    failedPart(layout),
    utilisationPart(layout),
    stalePart(layout),
    sessions.length
      ? { title: "Sessions", under: "and connections", height: 52, explain: explainSessions(drill), draw: () => <Area layers={layersOf(sessions.map(([name, values]) => ({ name, failed: false, values })), series.t_s, drill.lasts_s, axis, 52)} tone={(index) => zoneTone(index)} named /> }
      : undefined,
    {
      title: "Latency",
      under: `mean, up to ${slow >= 1000 ? seconds(slow / 1000) : `${amount(slow)} ms`}`,
      height: 40,
      explain: explainLatency(drill),
      draw: () => <Line {...latency} drill={drill} axis={axis} height={40} most={slow * 1.1} tone="var(--north)" />,
    },
  ];
  return parts.filter((part) => part !== undefined);
}

function stalePart({ drill, axis, document }: Layout): Part | undefined {
  const stale = Object.entries(drill.series.stale_share).filter(([, values]) => values.some((value) => value > 0));
  if (!stale.length) return undefined;
  return {
    title: "Old answers",
    under: "share of clients",
    height: 44,
    explain: explainStale(drill, document),
    draw: () => (
      <>
        {stale.map(([name, values]) => (
          <Line key={name} values={values} before={drill.series.before?.stale_share[name]} drill={drill} axis={axis} height={44} most={1.05} tone="var(--ochre)" />
        ))}
        <text x={LEFT + 6} y={13} className="fill-ink-soft text-[11px]" {...HALO}>{stale.map(([name]) => name).join(", ")}</text>
      </>
    ),
  };
}

/** Keeps words readable over lines. */
const HALO = { stroke: "var(--panel)", strokeWidth: 3, paintOrder: "stroke" };

const PHASE_WORDS = { best: "first", worst: "last" } as const;
const PHASE_DASHES = { best: "1 3", worst: "6 3" } as const;

/** What fails and why; and drawn over it the same drill if its probes noticed first, or last. */
function failedPart({ drill, axis, phases }: Layout): Part | undefined {
  const { series } = drill;
  const failing = Object.entries(series.mechanism_rps).filter(([, values]) => values.some((value) => value > 1e-9));
  const others = phases.flatMap((one) => (one.phases === "spread" || !one.failed_rps.some((value) => value > 1e-9) ? [] : [{ ...one, phases: one.phases }]));
  if (!failing.length) return undefined;
  const names = Object.keys(series.mechanism_rps);
  const most = Math.max(...mostUntilNext({ values: series.all_failed_rps, before: series.before?.all_failed_rps }));
  const top = Math.max(most, ...others.flatMap((one) => mostUntilNext({ values: one.failed_rps, before: one.failed_before_rps })));
  const height = Math.max(70, 36 + (failing.length + others.length) * 13);
  return {
    title: "Failed",
    under: `why, up to ${amount(most)}/s`,
    height,
    explain: explainFailed(drill),
    draw: () => (
      <>
        <Area layers={layersOf(failing.map(([name, values]) => ({ name, failed: false, values, before: series.before?.mechanism_rps[name] })), series.t_s, drill.lasts_s, axis, height, top)} tone={(index) => MECHANISM_TONES[names.indexOf(failing[index]?.[0] ?? "")] ?? "var(--vermilion)"} />
        {others.map((one) => (
          <path key={one.phases} d={lineOf(one.t_s, { values: one.failed_rps, before: one.failed_before_rps }, drill.lasts_s, axis, height, top, true)} fill="none" stroke="var(--ink)" strokeWidth={1.3} strokeDasharray={PHASE_DASHES[one.phases]} data-phases={one.phases} />
        ))}
        <Legend entries={failing.map(([name]) => [MECHANISMS[name] ?? name, MECHANISM_TONES[names.indexOf(name)] ?? ""])} />
        {others.map((one, index) => (
          <g key={one.phases} transform={`translate(12,${35 + (failing.length + index) * 13})`}>
            <line x1={0} x2={11} y1={5} y2={5} stroke="var(--ink)" strokeWidth={1.3} strokeDasharray={PHASE_DASHES[one.phases]} />
            <text x={15} y={8} className="fill-ink-soft text-[10px]">{PHASE_WORDS[one.phases]}: {amount(one.failed)}</text>
          </g>
        ))}
      </>
    ),
  };
}

function utilisationPart({ drill, axis, width }: Layout): Part {
  const { series } = drill;
  const right = width - RIGHT;
  const busiest = { values: series.busiest_utilisation, before: series.before?.busiest_utilisation };
  const highest = mostUntilNext(busiest);
  const top = Math.max(1.1, ...highest.map((value) => Math.min(value, 2)));
  const peak = highest.indexOf(Math.max(...highest));
  return {
    title: "Utilisation",
    under: "busiest, and middle",
    height: 64,
    explain: explainUtilisation(drill),
    draw: () => (
      <>
        <line x1={LEFT} x2={right} y1={64 - 64 / top} y2={64 - 64 / top} stroke="var(--vermilion)" strokeDasharray="4 3" />
        <text x={LEFT + 4} y={64 - 64 / top + (top > 1.3 ? -3 : 11)} className="fill-vermilion-text text-[10px]" {...HALO}>100 %</text>
        <Line values={series.middle_utilisation} before={series.before?.middle_utilisation} drill={drill} axis={axis} height={64} most={top} tone="var(--line-strong)" />
        <Line {...busiest} drill={drill} axis={axis} height={64} most={top} tone="var(--ochre)" />
        <text x={Math.min(axis.x(series.t_s[peak] ?? 0) + 4, right - 130)} y={11} className="fill-ochre-text text-[11px] font-semibold" {...HALO}>
          {percent(highest[peak] ?? 0)} {series.busiest[peak]}
        </text>
      </>
    ),
  };
}

function Area({ layers, tone, named = false }: { layers: Layer[]; tone: (index: number) => string; named?: boolean }) {
  return layers.map((layer, index) => (
    <g key={layer.name}>
      <path d={layer.path} fill={layer.failed ? "var(--vermilion)" : tone(index)} fillOpacity={layer.failed ? 0.8 : 1} stroke="var(--panel)" strokeWidth={0.5} />
      {named && layer.labelY !== null && <text x={LEFT + 8} y={layer.labelY + 4} className="fill-ink text-[11px]">{layer.name}</text>}
    </g>
  ));
}

function Legend({ entries }: { entries: [string, string][] }) {
  return entries.map(([name, tone], index) => (
    <g key={name} transform={`translate(12,${35 + index * 13})`}>
      <rect width={9} height={9} fill={tone} />
      <text x={13} y={8} className="fill-ink-soft text-[10px]">{name}</text>
    </g>
  ));
}

interface LineProps extends Values {
  drill: DrillAnswer;
  axis: TimeAxis;
  height: number;
  most: number;
  tone: string;
}

function Line({ values, before, drill, axis, height, most, tone }: LineProps) {
  return <path d={lineOf(drill.series.t_s, { values, before }, drill.lasts_s, axis, height, most)} fill="none" stroke={tone} strokeWidth={2} />;
}

function yOf(value: number, height: number, most: number): string {
  return (height - (Math.min(value, most) / most) * height).toFixed(1);
}

/** A line from each value to what it has come to just before the next second. `gaps`: nothing is drawn where it stays 0. */
function lineOf(times: readonly number[], { values, before = values }: Values, lasts: number, axis: TimeAxis, height: number, most: number, gaps = false): string {
  const at = (second: number, value: number) => `${axis.x(second).toFixed(1)},${yOf(value, height, most)}`;
  let drawn = false as boolean;
  return times
    .map((second, index) => {
      const [from, to] = [values[index] ?? 0, before[index] ?? 0];
      const hidden = gaps && from <= 1e-9 && to <= 1e-9;
      // Where it comes out of nothing, or goes back to it, it stands on the foot.
      const start = drawn || !index || !gaps || hidden ? "" : `M${at(second, 0)}`;
      const path = hidden ? (drawn ? `L${at(second, 0)}` : "") : `${start || drawn ? "L" : "M"}${at(second, from)}L${at(times[index + 1] ?? lasts, to)}`;
      drawn = !hidden;
      return `${start}${path}`;
    })
    .join("");
}

function Axis({ axis, width }: { axis: TimeAxis; width: number }) {
  return (
    <g>
      <line x1={LEFT} x2={width - RIGHT} y1={20} y2={20} stroke="var(--line-strong)" />
      {axis.ticks.map((second) => (
        <g key={second} transform={`translate(${axis.x(second)},0)`}>
          <line y1={16} y2={20} stroke="var(--line-strong)" />
          <text y={13} textAnchor="middle" className="fill-ink-soft font-mono text-[10px]">{clock(second)}</text>
        </g>
      ))}
    </g>
  );
}

function Breaks({ axis, top, bottom }: { axis: TimeAxis; top: number; bottom: number }) {
  return axis.breaks.map((one) => (
    <g key={one.from} transform={`translate(${one.x},0)`}>
      <text y={13} textAnchor="middle" className="fill-ink-soft font-mono text-[10px]">{span(one.to - one.from)}</text>
      <path d={`M-3,23L0,17M1,23L4,17`} stroke="var(--ink-soft)" fill="none" />
      <rect x={-5} y={top - 2} width={10} height={bottom - top + 4} fill="var(--paper)" />
    </g>
  ));
}
