import { Download } from "lucide-react";
import { useRef, useState, type PointerEvent, type ReactNode } from "react";

import type { DrillAnswer, FoldedStrip, PlanDocument, Strip } from "../api/client";
import { amount, clock, percent, seconds, span } from "../kit/format";
import { IconButton } from "../kit/parts";
import type { TimeAxis } from "../timeline/axis";
import { layersOf, zoneTone, type Layer } from "../timeline/stack";
import { flagsOf, type FlagData } from "../timeline/timeline";
import { blindFormula } from "./formula";

export const LEFT = 120;
export const RIGHT = 12;
const CHART_TOP = 50;
const GAP = 14;

export const MECHANISMS: Record<string, string> = {
  waiting: "waiting for verdicts",
  dead_front: "dead front",
  old_answers: "old answers",
  overload: "overload",
  none_healthy: "none healthy",
  blocked: "blocked",
  by_rule: "turned away by a rule",
};
const MECHANISM_TONES = ["#bf4329", "#8c2f1c", "#b67a17", "#d98a6f", "#6b4a3a", "#5b6671", "#a39a86"];

interface ChartsProps {
  document: PlanDocument;
  drill: DrillAnswer;
  strips: Strip[];
  /** Instead of single targets, when there are many: counts by group and zone. */
  cells: FoldedStrip[];
  axis: TimeAxis;
  width: number;
  onMove: (step: number, at: number) => void;
}

interface Part {
  title: string;
  under: string;
  height: number;
  draw: () => ReactNode;
}

/** The charts of a drill under one time axis, from its script down to what was true and what was believed. */
export function Charts(props: ChartsProps) {
  const { drill, axis, width, strips, cells, document } = props;
  const frame = useRef<SVGSVGElement>(null);
  const parts = partsOf(drill, axis, width);
  const tops = parts.map((_, index) => CHART_TOP + parts.slice(0, index).reduce((sum, part) => sum + part.height + GAP, 0));
  const y = CHART_TOP + parts.reduce((sum, part) => sum + part.height + GAP, 0);
  const stripsTop = y + 8;
  const height = stripsTop + 20 + strips.length * 30 + cells.length * FOLDED_STEP + 18;
  return (
    <>
      <svg ref={frame} width={width} height={height} className="block font-sans" role="img" aria-label={drill.summary} data-testid="charts">
        <defs>
          <pattern id="drill-hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="5" height="5" fill="var(--vermilion-fill)" />
            <line x1="0" y1="0" x2="0" y2="5" stroke="var(--vermilion)" strokeWidth="1.6" strokeOpacity="0.6" />
          </pattern>
        </defs>
        <Axis axis={axis} width={width} />
        {parts.map((part, index) => (
          <g key={part.title} transform={`translate(0,${tops[index] ?? 0})`}>
            <text x={12} y={14} className="fill-ink text-[12px] font-semibold">{part.title}</text>
            <text x={12} y={28} className="fill-ink-soft text-[11px]">{part.under}</text>
            <rect x={LEFT} width={Math.max(width - LEFT - RIGHT, 0)} height={part.height} rx={3} fill="var(--panel)" stroke="var(--line)" />
            {part.draw()}
          </g>
        ))}
        <Breaks axis={axis} top={CHART_TOP} bottom={y - GAP} />
        <g transform={`translate(0,${stripsTop})`}>
          <text x={12} y={10} className="fill-ink text-[12px] font-semibold">Truth and belief</text>
          <text x={LEFT} y={10} className="fill-ink-soft text-[11px]">{sayStrips(strips, cells)}</text>
          {strips.map((strip, index) => (
            <StripPair key={strip.group + strip.target} strip={strip} axis={axis} drill={drill} document={document} y={20 + index * 30} />
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

function partsOf(drill: DrillAnswer, axis: TimeAxis, width: number): Part[] {
  const { series } = drill;
  const right = width - RIGHT;
  const failing = Object.entries(series.mechanism_rps).filter(([, values]) => values.some((value) => value > 1e-9));
  const total = Math.max(...series.t_s.map((_, index) => sumAt(series.by_zone_rps, index) + sumAt(series.mechanism_rps, index)), 1e-9);
  const served = [
    ...Object.entries(series.by_zone_rps).map(([name, values]) => ({ name, failed: false, values })),
    { name: "failed", failed: true, values: series.t_s.map((_, index) => sumAt(series.mechanism_rps, index)) },
  ];
  const stale = Object.entries(series.stale_share).filter(([, values]) => values.some((value) => value > 0));
  const sessions = Object.entries(series.sessions).filter(([, values]) => values.some((value) => value > 0));
  const top = Math.max(1.1, ...series.busiest_utilisation.map((value) => Math.min(value, 2)));
  const peak = series.busiest_utilisation.indexOf(Math.max(...series.busiest_utilisation));
  const parts: Part[] = [
    { title: "Served", under: "by zone, /s", height: 104, draw: () => <Area layers={layersOf(served, series.t_s, drill.lasts_s, axis, 104, total)} tone={(index) => zoneTone(index)} named /> },
  ];
  if (failing.length) {
    const layers = failing.map(([name, values]) => ({ name: MECHANISMS[name] ?? name, failed: false, values }));
    const names = Object.keys(series.mechanism_rps);
    parts.push({
      title: "Failed",
      under: `why, up to ${amount(Math.max(...series.t_s.map((_, index) => sumAt(series.mechanism_rps, index))))}/s`,
      height: Math.max(70, 36 + failing.length * 13),
      draw: () => (
        <>
          <Area layers={layersOf(layers, series.t_s, drill.lasts_s, axis, Math.max(70, 36 + failing.length * 13))} tone={(index) => MECHANISM_TONES[names.indexOf(failing[index]?.[0] ?? "")] ?? "var(--vermilion)"} />
          <Legend entries={failing.map(([name]) => [MECHANISMS[name] ?? name, MECHANISM_TONES[names.indexOf(name)] ?? ""])} />
        </>
      ),
    });
  }
  parts.push({
    title: "Utilisation",
    under: "busiest, and middle",
    height: 64,
    draw: () => (
      <>
        <line x1={LEFT} x2={right} y1={64 - 64 / top} y2={64 - 64 / top} stroke="var(--vermilion)" strokeDasharray="4 3" />
        <text x={right - 4} y={64 - 64 / top - 3} textAnchor="end" className="fill-vermilion-text text-[10px]">100 %</text>
        <Line values={series.middle_utilisation} drill={drill} axis={axis} height={64} most={top} tone="var(--line-strong)" />
        <Line values={series.busiest_utilisation} drill={drill} axis={axis} height={64} most={top} tone="var(--ochre)" />
        <text x={Math.min(axis.x(series.t_s[peak] ?? 0) + 4, right - 130)} y={11} className="fill-ochre-text text-[11px] font-semibold">
          {percent(series.busiest_utilisation[peak] ?? 0)} {series.busiest[peak]}
        </text>
      </>
    ),
  });
  if (stale.length) {
    parts.push({
      title: "Old answers",
      under: "share of clients",
      height: 44,
      draw: () => (
        <>
          {stale.map(([name, values]) => (
            <Line key={name} values={values} drill={drill} axis={axis} height={44} most={1.05} tone="var(--ochre)" slanted />
          ))}
          <text x={right - 6} y={13} textAnchor="end" className="fill-ink-soft text-[11px]">{stale.map(([name]) => name).join(", ")}</text>
        </>
      ),
    });
  }
  if (sessions.length) {
    const layers = sessions.map(([name, values]) => ({ name, failed: false, values }));
    parts.push({ title: "Sessions", under: "and connections", height: 52, draw: () => <Area layers={layersOf(layers, series.t_s, drill.lasts_s, axis, 52)} tone={(index) => zoneTone(index)} named /> });
  }
  const slow = Math.max(...series.latency_ms, 1);
  parts.push({
    title: "Latency",
    under: `mean, up to ${slow >= 1000 ? seconds(slow / 1000) : `${amount(slow)} ms`}`,
    height: 40,
    draw: () => <Line values={series.latency_ms} drill={drill} axis={axis} height={40} most={slow * 1.1} tone="var(--north)" />,
  });
  return parts;
}

function sumAt(all: Record<string, number[]>, index: number): number {
  return Object.values(all).reduce((sum, values) => sum + (values[index] ?? 0), 0);
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

interface LineProps {
  values: number[];
  drill: DrillAnswer;
  axis: TimeAxis;
  height: number;
  most: number;
  tone: string;
  /** Drawn from point to point, for what changes evenly; else in steps. */
  slanted?: boolean;
}

function Line({ values, drill, axis, height, most, tone, slanted = false }: LineProps) {
  const y = (value: number) => (height - (Math.min(value, most) / most) * height).toFixed(1);
  const points = drill.series.t_s.map((second, index) => {
    const here = `${axis.x(second).toFixed(1)},${y(values[index] ?? 0)}`;
    return slanted || index === 0 ? here : `${axis.x(second).toFixed(1)},${y(values[index - 1] ?? 0)}L${here}`;
  });
  return <path d={`M${points.join("L")}L${axis.x(drill.lasts_s).toFixed(1)},${y(values.at(-1) ?? 0)}`} fill="none" stroke={tone} strokeWidth={2} />;
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

const FOLDED_HEIGHT = 34;
const FOLDED_STEP = 44;

function sayStrips(strips: Strip[], cells: FoldedStrip[]): string {
  if (cells.length) return "targets truly up (green) and believed in use (line); hatched in between, where belief is wrong";
  return strips.length ? "above what is, below what fronts believe; hatched where that is wrong" : "every belief was right all the time";
}

/** Counts of a group in a zone: truly up as an area, believed in use as a line, hatched in between. */
function Folded({ cell, axis, lasts, y }: { cell: FoldedStrip; axis: TimeAxis; lasts: number; y: number }) {
  const most = Math.max(...cell.targets, 1);
  const at = (count: number) => FOLDED_HEIGHT - (count / most) * FOLDED_HEIGHT;
  const spans = cell.t_s.map((from, index) => ({ x: axis.x(from), wide: Math.max(axis.x(cell.t_s[index + 1] ?? lasts) - axis.x(from), 0), up: cell.up[index] ?? 0, believed: cell.believed[index] ?? 0 }));
  const least = Math.min(...cell.up);
  return (
    <g transform={`translate(0,${y})`} data-testid="folded" data-cell={`${cell.group} ${cell.zone}`}>
      <text x={LEFT - 8} y={14} textAnchor="end" className="fill-ink text-[11px] font-semibold">{cell.group}</text>
      <text x={LEFT - 8} y={28} textAnchor="end" className="fill-ink-soft text-[11px]">{cell.zone}</text>
      <title>{`${cell.group} in ${cell.zone}: ${most} targets, ${least} of them up at the worst moment`}</title>
      {spans.map((one, index) => (
        <g key={index}>
          <rect x={one.x} y={at(one.up)} width={one.wide} height={FOLDED_HEIGHT - at(one.up)} fill="var(--moss)" fillOpacity={0.55} />
          <rect x={one.x} y={Math.min(at(one.up), at(one.believed))} width={one.wide} height={Math.abs(at(one.up) - at(one.believed))} fill="url(#drill-hatch)" />
        </g>
      ))}
      <path d={spans.map((one, index) => `${index ? "L" : "M"}${one.x},${at(one.believed)}H${one.x + one.wide}`).join("")} fill="none" stroke="var(--ink)" strokeWidth={1.2} />
      <text x={(spans[0]?.x ?? LEFT) + 4} y={FOLDED_HEIGHT - 4} className="fill-ink text-[10px]">{most} targets{least < most && `, ${least} at worst`}</text>
    </g>
  );
}

/** What is true of a target above, what its fronts believe below, each wrong stretch with its seconds. */
function StripPair({ strip, axis, drill, document, y }: { strip: Strip; axis: TimeAxis; drill: DrillAnswer; document: PlanDocument; y: number }) {
  const rows = drill.blind.filter((row) => row.group === strip.group && row.target === strip.target);
  return (
    <g transform={`translate(0,${y})`} data-testid="strip" data-target={strip.target}>
      <text x={LEFT - 8} y={14} textAnchor="end" className="fill-ink text-[11px] font-semibold">{strip.target}</text>
      {truths(strip).map((piece) => {
        const x = axis.x(piece.from_s);
        const wide = Math.max(axis.x(piece.to_s) - x, 0.5);
        const up = piece.truth === "answers" || piece.truth === "slow";
        return (
          <g key={piece.from_s}>
            <rect x={x} y={0} width={wide} height={10} fill={up ? "var(--moss)" : "var(--panel)"} stroke={up ? "none" : "var(--vermilion)"} />
            {piece.truth !== "answers" && wide > 60 && <text x={x + wide / 2} y={9} textAnchor="middle" className={`text-[10px] ${up ? "fill-panel" : "fill-vermilion-text"}`}>{piece.truth}</text>}
          </g>
        );
      })}
      {strip.pieces.map((piece) => {
        const x = axis.x(piece.from_s);
        return (
          <rect key={piece.from_s} x={x} y={12} width={Math.max(axis.x(piece.to_s) - x, 0.5)} height={10} fill={piece.wrong ? "url(#drill-hatch)" : piece.believed_in > 0 ? "var(--moss)" : "var(--lost)"}>
            <title>{`${piece.truth}; ${piece.believed_in} of ${piece.believed_of} fronts believe it in use (${clock(piece.from_s)} to ${clock(piece.to_s)})`}</title>
          </rect>
        );
      })}
      {lastOfEach(rows).flatMap((row) =>
        [row.earliest_s, row.latest_s].map((blind) => {
          const x = axis.x(row.true_at_s + blind);
          return <line key={`${row.change} ${row.true_at_s} ${blind}`} x1={x} x2={x} y1={10} y2={24} stroke="var(--ink)" strokeDasharray="2 1" />;
        }),
      )}
      {lastOfEach(rows).map((row, index, all) => {
        const start = axis.x(row.true_at_s + row.blind_s) + 5;
        const next = all[index + 1];
        const words = blindWords(row, axis.x(next?.true_at_s ?? drill.lasts_s) - start);
        return (
          words && (
            <text key={row.change + row.true_at_s} x={start} y={21} tabIndex={0} className={`text-[10px] ${row.change === "down" ? "fill-ink" : "fill-panel"}`}>
              {words}
              <title>{blindFormula(row, document)}</title>
            </text>
          )
        );
      })}
    </g>
  );
}

/** The stretches of one truth, whatever was believed meanwhile. */
function truths(strip: Strip): Strip["pieces"] {
  return strip.pieces.reduce<Strip["pieces"]>((all, piece) => {
    const last = all.at(-1);
    if (last?.truth === piece.truth) return [...all.slice(0, -1), { ...last, to_s: piece.to_s }];
    return [...all, piece];
  }, []);
}

/** How long a belief was wrong, as far as there is room to say it. */
function blindWords(row: DrillAnswer["blind"][number], room: number): string | undefined {
  const short = seconds(row.blind_s);
  const long = `${short} blind · ${Math.round(row.earliest_s * 10) / 10}–${Math.round(row.latest_s * 10) / 10} possible`;
  return [long, short].find((words) => words.length * 5.3 < room);
}

/** Of each change the row of the front that noticed last. */
function lastOfEach(rows: DrillAnswer["blind"]): DrillAnswer["blind"] {
  const last = new Map<string, DrillAnswer["blind"][number]>();
  for (const row of rows) {
    const key = `${row.change} ${row.true_at_s}`;
    if ((last.get(key)?.blind_s ?? -1) < row.blind_s) last.set(key, row);
  }
  return [...last.values()].sort((a, b) => a.true_at_s - b.true_at_s);
}

/** The script as flags: drag one, or move it with the arrow keys, and the drill is another. */
function Flags({ document, drill, axis, height, onMove }: ChartsProps & { height: number }) {
  return flagsOf(document, drill).map((flag) => <Flag key={`${flag.step} ${flag.at}`} flag={flag} axis={axis} height={height} onMove={onMove} />);
}

function Flag({ flag, axis, height, onMove }: { flag: FlagData; axis: TimeAxis; height: number; onMove: (step: number, at: number) => void }) {
  const [dragged, setDragged] = useState<number>();
  const x = dragged ?? axis.x(flag.at);
  const wide = flag.text.length * 6.2 + 12;
  const tone = flag.back ? "var(--moss)" : "var(--vermilion)";
  const place = (event: PointerEvent<SVGGElement>) => event.clientX - (event.currentTarget.ownerSVGElement?.getBoundingClientRect().left ?? 0);
  return (
    <g
      role="slider"
      tabIndex={0}
      aria-label={`${flag.text}: at second`}
      aria-valuenow={flag.at}
      className="cursor-grab focus:outline-none focus-visible:[&>rect]:stroke-ink"
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        setDragged(place(event));
      }}
      onPointerMove={(event) => dragged !== undefined && setDragged(place(event))}
      onPointerUp={() => {
        if (dragged !== undefined && Math.abs(dragged - axis.x(flag.at)) > 2) onMove(flag.step, axis.second(dragged));
        setDragged(undefined);
      }}
      onKeyDown={(event) => {
        const by = { ArrowRight: 5, ArrowLeft: -5 }[event.key];
        if (by === undefined) return;
        event.preventDefault();
        event.stopPropagation();
        onMove(flag.step, flag.at + by);
      }}
    >
      <line x1={x} x2={x} y1={20} y2={height - 6} stroke={tone} strokeDasharray="2 4" />
      <rect x={x} y={24} width={wide} height={19} fill={tone} strokeWidth={2} />
      <text x={x + 6} y={37} className="fill-panel text-[11px] font-semibold">{flag.text}</text>
    </g>
  );
}

/** The charts as a picture, and their numbers as a table. */
function Downloads({ drill, svg }: { drill: DrillAnswer; svg: () => SVGSVGElement | null }) {
  const keep = async (kind: "svg" | "csv") => {
    const { seriesAsCsv } = await import("./script");
    const element = svg();
    const text = kind === "csv" ? seriesAsCsv(drill.series) : element ? withTones(element) : "";
    const link = window.document.createElement("a");
    link.href = URL.createObjectURL(new Blob([text], { type: kind === "csv" ? "text/csv" : "image/svg+xml" }));
    link.download = `${drill.name}.${kind}`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <p className="mt-2 flex items-center gap-2 pl-[120px] text-[12px] text-ink-soft">
      {(["svg", "csv"] as const).map((kind) => (
        <span key={kind} className="flex items-center gap-1">
          <IconButton label={`Download as ${kind.toUpperCase()}`} onClick={() => void keep(kind)}>
            <Download size={12} />
          </IconButton>
          {kind.toUpperCase()}
        </span>
      ))}
    </p>
  );
}

/** An SVG that stands by itself: the tones that it takes from the page are written into it. */
function withTones(element: SVGSVGElement): string {
  const style = getComputedStyle(window.document.documentElement);
  const text = new XMLSerializer().serializeToString(element);
  return text.replaceAll(/var\((--[a-z0-9-]+)\)/g, (_, name: string) => style.getPropertyValue(name).trim() || "black").replace("<svg ", '<svg font-family="sans-serif" font-size="11" ');
}
