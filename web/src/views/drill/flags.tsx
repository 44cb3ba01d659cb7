import { useState, type PointerEvent } from "react";

import type { DrillAnswer, PlanDocument } from "../../api/client";
import type { TimeAxis } from "../../timeline/axis";
import { flagsOf, type FlagData } from "../../timeline/timeline";

interface FlagsProps {
  document: PlanDocument;
  drill: DrillAnswer;
  axis: TimeAxis;
  height: number;
  onMove: (step: number, at: number) => void;
}

/** The script as flags: drag one, or move it with the arrow keys, and the drill is another. */
export function Flags({ document, drill, axis, height, onMove }: FlagsProps) {
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
