/** The flows between the parts. */

import { memo, useMemo } from "react";

import type { BoardState } from "../../api/client";
import { formatSelection, type Selection } from "../../plan/selection";
import { type BoardLayout } from "../geometry";
import { arcs, bands } from "../ribbons";

export const Ribbons = memo(function Ribbons({ state, layout, selection }: { state: BoardState; layout: BoardLayout; selection: Selection | undefined }) {
  const selected = selection && formatSelection(selection);
  const ribbons = useMemo(() => bands(state, layout), [state, layout]);
  const crossing = useMemo(() => arcs(state, layout, selected), [state, layout, selected]);
  return (
    <svg className="pointer-events-none absolute inset-0" width={layout.width} height={layout.height} aria-hidden="true">
      <defs>
        <pattern id="hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="5" height="5" fill="var(--vermilion-fill)" />
          <line x1="0" y1="0" x2="0" y2="5" stroke="var(--vermilion)" strokeWidth="1.6" strokeOpacity="0.6" />
        </pattern>
      </defs>
      {ribbons.map((one) => (
        <g key={one.key} data-ribbon={one.key}>
          <path d={one.path} fill={selected === one.source || selected === one.to ? "var(--north)" : "var(--ribbon)"} />
          {one.failing && <path d={one.failing} fill="var(--vermilion)" />}
        </g>
      ))}
      {crossing.map((one) => (
        <path
          key={one.key}
          d={one.path}
          fill="none"
          stroke={one.failing ? "var(--vermilion)" : "var(--north)"}
          strokeOpacity={0.75}
          strokeWidth={Math.min(one.width, 10)}
        />
      ))}
    </svg>
  );
});
