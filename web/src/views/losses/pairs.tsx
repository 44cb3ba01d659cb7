/** Every pair of parts lost together, as a triangle: the darker, the more fails. */
import { useMemo, useState, type KeyboardEvent } from "react";

import { amount, percent } from "../../kit/format";
import type { Loss } from "../../plan/judging";
import { darkness, pairOf, pairsOf } from "./drills";

const LABELS = 190;
const MOST_CELL = 18;
const WIDTH = 640;

export function PairMap({ losses, onMake }: { losses: Loss[]; onMake: (pair: Loss) => void }) {
  const { classes, pairs } = useMemo(() => pairsOf(losses), [losses]);
  const [at, setAt] = useState({ row: 0, column: 0 });
  const cell = Math.min(MOST_CELL, Math.max(6, Math.floor((WIDTH - LABELS) / Math.max(classes.length, 1))));
  const most = Math.max(...[...pairs.values()].map((one) => one.failed_requests), 0);
  const found = (row: number, column: number) => {
    const [one, other] = [classes[row], classes[column]];
    return one && other ? pairOf(pairs, one, other) : undefined;
  };
  const current = found(at.row, at.column);
  const move = (event: KeyboardEvent) => {
    if (event.key === "Enter" && current) onMake(current);
    const step = { ArrowDown: [1, 0], ArrowUp: [-1, 0], ArrowRight: [0, 1], ArrowLeft: [0, -1] }[event.key];
    if (!step) return;
    event.preventDefault();
    const row = Math.min(Math.max(at.row + (step[0] ?? 0), 0), classes.length - 1);
    setAt({ row, column: Math.min(Math.max(at.column + (step[1] ?? 0), 0), row) });
  };
  if (classes.length === 0) return null;
  return (
    <figure className="mb-5 overflow-x-auto p-1">
      <svg width={LABELS + classes.length * cell + 2} height={classes.length * cell + 2} role="img" aria-label="Pairs of losses; the arrow keys go from one to the next, Enter makes it a drill" tabIndex={0} className="rounded" onKeyDown={move} data-testid="pairs">
        {classes.map((one, row) => (
          <g key={one.words}>
            <text x={LABELS - 6} y={row * cell + cell * 0.75} textAnchor="end" fontSize={Math.min(11, cell)} fill="var(--ink-soft)">{one.words.length > 32 ? `${one.words.slice(0, 31)}…` : one.words}</text>
            {classes.slice(0, row + 1).map((other, column) => {
              const pair = found(row, column);
              const chosen = at.row === row && at.column === column;
              return (
                <rect
                  key={other.words}
                  x={LABELS + column * cell}
                  y={row * cell}
                  width={cell - 1}
                  height={cell - 1}
                  fill={pair ? `color-mix(in oklab, var(--vermilion) ${Math.round(darkness(pair.failed_requests, most) ** 3 * 100)}%, var(--foot))` : "none"}
                  stroke={chosen ? "var(--ink)" : pair ? "none" : "var(--line)"}
                  strokeWidth={chosen ? 2 : 1}
                  className={pair ? "cursor-pointer" : ""}
                  onPointerEnter={() => setAt({ row, column })}
                  onClick={() => pair && onMake(pair)}
                />
              );
            })}
          </g>
        ))}
      </svg>
      <figcaption className="mt-1 min-h-10 text-[12px]" role="status" data-testid="pair">
        {current ? <><b className="font-semibold">{current.words}</b>: {amount(current.failed_requests)} requests fail within an hour, {current.unserved_share > 0 ? `${percent(current.unserved_share)} stay unserved` : "nothing stays unserved"}{current.cascade ? ", a cascade" : ""}.</> : `${classes[at.row]?.words ?? ""} is one part alone.`}
      </figcaption>
    </figure>
  );
}
