import type { BerthState } from "../api/client";
import { amount, clock, percent, seconds } from "../kit/format";
import type { Looking } from "../plan/moment";

const SIZE = 20;

/** When a target that is not yet proven will be in use, in words. */
export function provenWords({ proven_at_s: at }: BerthState, looking: Looking): string {
  if (at === null) return "not within the drill";
  if (looking.mode === "what-if") return `${seconds(at)} after it came`;
  return `at ${clock(at)} at the latest`;
}

/** A berth in words, for those who do not see it and for the hint. */
export function berthWords(berth: BerthState): string {
  const belief =
    berth.belief === "split"
      ? `${berth.unproven ? "not yet proven to all: " : ""}${berth.believed_in} of ${berth.believed_of} fronts believe it in use`
      : berth.belief === "unknown"
        ? "no living front probes it"
        : berth.belief === "leaving"
          ? "leaving: nothing new is sent there"
          : berth.unproven
          ? "not yet proven"
          : `believed ${berth.belief}`;
  const load = berth.capacity_rps ? `${percent(berth.utilisation)} of ${amount(berth.capacity_rps)}/s` : `${amount(berth.rps)}/s`;
  return `${berth.target} of ${berth.group}: ${berth.truth}, ${belief}, ${load}${berth.wrong && !berth.unproven ? "; not noticed" : ""}`;
}

function levelTone(utilisation: number): string {
  if (utilisation > 1) return "var(--vermilion)";
  return utilisation >= 0.8 ? "var(--ochre-fill)" : "var(--moss-fill)";
}

function borderTone(berth: BerthState): string {
  if (berth.unproven) return "var(--ochre)";
  if (berth.wrong) return "var(--vermilion)";
  if (berth.truth === "refuses" || berth.truth === "silent" || berth.belief !== "in use") return "var(--lost-ink)";
  return berth.utilisation >= 0.8 ? "var(--ochre)" : "var(--moss)";
}

/** One target's place: its border is what is believed, its glyph the truth, its level the load, hatching a wrong belief. */
export function Berth({ berth, selected, lost, size, address, reached, onSelect }: { berth: BerthState; selected: boolean; lost: boolean; size: number; address: string | undefined; reached: boolean; onSelect: () => void }) {
  const part = `berth:${berth.group}/${berth.target}`;
  const down = berth.truth === "refuses" || berth.truth === "silent";
  return (
    <button
      type="button"
      className="grid shrink-0 place-items-center rounded-[5px] hover:bg-line/60"
      style={{ width: size, height: size }}
      data-part={part}
      data-roving
      tabIndex={reached ? 0 : -1}
      aria-label={berthWords(berth)}
      aria-pressed={selected}
      title={address ? `${berthWords(berth)} · ${address}` : berthWords(berth)}
      onClick={onSelect}
    >
      <BerthGlyph berth={berth} down={down} selected={selected} lost={lost} drawn={size - 2} />
    </button>
  );
}

function BerthGlyph({ berth, down, selected, lost, drawn }: { berth: BerthState; down: boolean; selected: boolean; lost: boolean; drawn: number }) {
  const tone = borderTone(berth);
  const wrong = berth.wrong;
  const level = down ? 0 : Math.min(berth.utilisation, 1) * (SIZE - 4);
  const dash = berth.unproven ? "0.1 3" : berth.belief === "out" || berth.belief === "unknown" ? "2.6 2.2" : undefined;
  return (
    <svg width={drawn} height={drawn} viewBox={`-1 -1 ${SIZE + 2} ${SIZE + 2}`} aria-hidden="true">
      {selected && <rect x={-1} y={-1} width={SIZE + 2} height={SIZE + 2} rx={5} fill="var(--north)" />}
      <rect x={0.75} y={0.75} width={SIZE - 1.5} height={SIZE - 1.5} rx={3.5} fill={lost && !wrong ? "var(--lost)" : "var(--panel)"} />
      {wrong && <rect x={0.75} y={0.75} width={SIZE - 1.5} height={SIZE - 1.5} rx={3.5} fill="url(#hatch)" />}
      {level > 0 && <rect x={2} y={SIZE - 2 - level} width={SIZE - 4} height={level} rx={1} fill={levelTone(berth.utilisation)} />}
      {berth.belief === "leaving" ? (
        <path d={`M${SIZE - 0.75},${SIZE / 2} V4 Q${SIZE - 0.75},0.75 ${SIZE - 4},0.75 H4 Q0.75,0.75 0.75,4 V${SIZE / 2}`} fill="none" stroke="var(--ochre)" strokeWidth={1.8} />
      ) : berth.belief === "split" ? (
        <SplitBorder tone={tone} share={berth.believed_in / Math.max(berth.believed_of, 1)} />
      ) : (
        <rect x={0.75} y={0.75} width={SIZE - 1.5} height={SIZE - 1.5} rx={3.5} fill="none" stroke={tone} strokeWidth={berth.unproven ? 2 : 1.6} strokeLinecap={berth.unproven ? "round" : undefined} strokeDasharray={dash} />
      )}
      {down && <path d="M6,6 L14,14 M14,6 L6,14" stroke={wrong ? "var(--vermilion)" : "var(--lost-ink)"} strokeWidth={1.8} strokeLinecap="round" />}
      {berth.truth === "slow" && <path d="M4,9 q3,-4 6,0 t6,0" fill="none" stroke="var(--ink)" strokeWidth={1.6} />}
    </svg>
  );
}

/** Solid as far as fronts believe it in use, dashed for the others. */
function SplitBorder({ tone, share }: { tone: string; share: number }) {
  const edge = SIZE * share;
  return (
    <g fill="none" stroke={tone} strokeWidth={1.6}>
      <path d={`M${edge},0.75 H4 Q0.75,0.75 0.75,4 V${SIZE - 4} Q0.75,${SIZE - 0.75} 4,${SIZE - 0.75} H${edge}`} />
      <path
        d={`M${edge},0.75 H${SIZE - 4} Q${SIZE - 0.75},0.75 ${SIZE - 0.75},4 V${SIZE - 4} Q${SIZE - 0.75},${SIZE - 0.75} ${SIZE - 4},${SIZE - 0.75} H${edge}`}
        strokeDasharray="2.6 2.2"
      />
    </g>
  );
}
