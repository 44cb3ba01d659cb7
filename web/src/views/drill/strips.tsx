/** Truth and belief over time: of single targets, or counted by group and zone. */

import type { DrillAnswer, FoldedStrip, Strip } from "../../api/client";
import { clock, seconds } from "../../kit/format";
import type { TimeAxis } from "../../timeline/axis";
import { LEFT } from "./layout";
import { blindFormula } from "./formula";

export const FOLDED_HEIGHT = 34;
export const FOLDED_STEP = 44;
export const STRIP_STEP = 30;

export function sayStrips(strips: Strip[], cells: FoldedStrip[]): string {
  if (cells.length) return "targets truly up (green) and believed in use (line); hatched in between, where belief is wrong";
  return strips.length ? "above what is, below what fronts believe; hatched where that is wrong" : "every belief was right all the time";
}

/** Counts of a group in a zone: truly up as an area, believed in use as a line, hatched in between. */
export function Folded({ cell, axis, lasts, y }: { cell: FoldedStrip; axis: TimeAxis; lasts: number; y: number }) {
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
export function StripPair({ strip, axis, drill, y }: { strip: Strip; axis: TimeAxis; drill: DrillAnswer; y: number }) {
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
        [row.earliest_s, row.latest_s].filter((blind) => blind !== null).map((blind) => {
          const x = axis.x(row.true_at_s + blind);
          return <line key={`${row.change} ${row.true_at_s} ${blind}`} x1={x} x2={x} y1={10} y2={24} stroke="var(--ink)" strokeDasharray="2 1" />;
        }),
      )}
      {lastOfEach(rows).map((row, index, all) => {
        // Beside the marks of the earliest and the latest, never beneath them.
        const start = axis.x(row.true_at_s + Math.max(row.blind_s, row.latest_s ?? 0)) + 5;
        const next = all[index + 1];
        const words = blindWords(row, axis.x(next?.true_at_s ?? drill.lasts_s) - start);
        return (
          words && (
            <text key={row.change + row.true_at_s} x={start} y={21} tabIndex={0} className={`text-[10px] ${row.change === "down" ? "fill-ink" : "fill-panel"}`}>
              {words}
              <title>{blindFormula(row)}</title>
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
  return [`${short} blind · ${possible(row)}`, short].find((words) => words.length * 5.3 < room);
}

/** How long a belief could have been wrong, in short. */
function possible({ earliest_s: earliest, latest_s: latest }: DrillAnswer["blind"][number]): string {
  const tenths = (value: number) => Math.round(value * 10) / 10;
  return earliest === null || latest === null ? "no probe asks" : `${tenths(earliest)}–${tenths(latest)} possible`;
}

/** Of each change the row of the front that noticed last. */
export function lastOfEach(rows: DrillAnswer["blind"]): DrillAnswer["blind"] {
  const last = new Map<string, DrillAnswer["blind"][number]>();
  for (const row of rows) {
    const key = `${row.change} ${row.true_at_s}`;
    if ((last.get(key)?.blind_s ?? -1) < row.blind_s) last.set(key, row);
  }
  return [...last.values()].sort((a, b) => a.true_at_s - b.true_at_s);
}
