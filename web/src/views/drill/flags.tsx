import { useState, type KeyboardEvent, type PointerEvent } from "react";

import type { DrillAnswer, PlanDocument } from "../../api/client";
import type { TimeAxis } from "../../timeline/axis";
import { flagsOf, type FlagData } from "../../timeline/timeline";

interface FlagsProps {
  document: PlanDocument;
  drill: DrillAnswer;
  axis: TimeAxis;
  height: number;
  /** The step that is open for editing. */
  chosen: number | undefined;
  onMove: (step: number, at: number) => void;
  onChoose: (step: number | undefined) => void;
  onRemove: (step: number) => void;
}

/** The script as flags: drag one, nudge it with the arrow keys, open it with Enter or a click, take it out with Delete. */
export function Flags({ document, drill, axis, height, ...acts }: FlagsProps) {
  return flagsOf(document, drill).map((flag) => <Flag key={flag.step} flag={flag} axis={axis} height={height} {...acts} />);
}

type FlagProps = Pick<FlagsProps, "axis" | "height" | "chosen" | "onMove" | "onChoose" | "onRemove"> & { flag: FlagData };

function Flag({ flag, axis, height, chosen, onMove, onChoose, onRemove }: FlagProps) {
  // Where it was dropped it stays until the drill has been run again with it.
  const [dragged, setDragged] = useState<{ x: number; from: number; held: boolean }>();
  const isDragged = dragged?.from === flag.at;
  const x = isDragged ? dragged.x : axis.x(flag.at);
  const wide = flag.text.length * 6.2 + 12;
  const tone = flag.back ? "var(--moss)" : "var(--vermilion)";
  const open = chosen === flag.step;
  const place = (event: PointerEvent<SVGGElement>) => event.clientX - (event.currentTarget.ownerSVGElement?.getBoundingClientRect().left ?? 0);
  const press = (event: KeyboardEvent<SVGGElement>) => {
    const by = { ArrowRight: event.shiftKey ? 1 : 5, ArrowLeft: event.shiftKey ? -1 : -5 }[event.key];
    if (by !== undefined) onMove(flag.step, flag.at + by);
    else if (event.key === "Delete" || event.key === "Backspace") onRemove(flag.step);
    else if (event.key === "Enter") onChoose(open ? undefined : flag.step);
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  return (
    <g
      role="slider"
      tabIndex={0}
      aria-label={`${flag.text}: at second`}
      aria-valuenow={flag.at}
      aria-valuemin={0}
      aria-valuetext={`second ${flag.at}`}
      className="cursor-grab focus:outline-none focus-visible:[&>rect]:stroke-ink"
      data-step={flag.step}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        setDragged({ x: axis.x(flag.at), from: flag.at, held: true });
      }}
      onPointerMove={(event) => isDragged && dragged.held && setDragged({ ...dragged, x: place(event) })}
      onPointerUp={() => {
        if (!isDragged) return;
        const moved = Math.abs(dragged.x - axis.x(flag.at)) > 2;
        setDragged(moved ? { ...dragged, held: false } : undefined);
        if (moved) onMove(flag.step, axis.second(dragged.x));
        else onChoose(open ? undefined : flag.step);
      }}
      onKeyDown={press}
    >
      <title>Drag it, or move it with the arrow keys (with Shift by a second); Enter opens it, Delete takes it out</title>
      <line x1={x} x2={x} y1={20} y2={height - 6} stroke={tone} strokeDasharray="2 4" />
      <rect x={x} y={24} width={wide} height={19} fill={tone} strokeWidth={2} stroke={open ? "var(--ink)" : undefined} />
      <text x={x + 6} y={37} className="fill-panel text-[11px] font-semibold">{flag.text}</text>
    </g>
  );
}
