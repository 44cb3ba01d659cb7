import { useEffect, useState, type RefObject } from "react";

interface LitPathProps {
  /** The parts that a traced request passes, from client to target. */
  parts: string[];
  frame: RefObject<HTMLDivElement | null>;
  /** Whatever moves the parts about. */
  layout: unknown;
}

interface Ring {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** Where parts are drawn within the board. */
function placesOf(board: HTMLElement, parts: string[]): Ring[] {
  const home = board.getBoundingClientRect();
  return parts.flatMap((part) => {
    const box = board.querySelector(`[data-part="${CSS.escape(part)}"]`)?.getBoundingClientRect();
    return box ? [{ x: box.left - home.left + board.scrollLeft, y: box.top - home.top + board.scrollTop, width: box.width, height: box.height }] : [];
  });
}

/** A traced request as a lit path over the board: its parts ringed, and joined from foot to head. */
export function LitPath({ parts, frame, layout }: LitPathProps) {
  const [rings, setRings] = useState<Ring[]>([]);
  useEffect(() => {
    const measure = () => {
      if (frame.current) setRings(placesOf(frame.current, parts));
    };
    const drawn = requestAnimationFrame(measure);
    return () => cancelAnimationFrame(drawn);
  }, [parts, frame, layout]);
  if (rings.length < 2) return null;
  const path = rings.map((ring, index) => (index === 0 ? "" : join(rings[index - 1] ?? ring, ring))).join("");
  return (
    <svg className="pointer-events-none absolute inset-0 z-10 size-full overflow-visible" aria-hidden="true" data-testid="lit-path">
      <path d={path} fill="none" stroke="var(--paper)" strokeWidth={7} strokeLinecap="round" />
      <path d={path} fill="none" stroke="var(--ochre)" strokeWidth={3.5} strokeLinecap="round" />
      {rings.map((ring, index) => (
        <rect key={index} x={ring.x - 2} y={ring.y - 2} width={ring.width + 4} height={ring.height + 4} rx={ring.height > 34 ? 18 : 6} fill="none" stroke="var(--ochre)" strokeWidth={2.5} />
      ))}
    </svg>
  );
}

/** From the foot of one to the head of the next. */
function join(from: Ring, to: Ring): string {
  const [x1, y1, x2, y2] = [from.x + from.width / 2, from.y + from.height, to.x + to.width / 2, to.y];
  const bend = (y1 + y2) / 2;
  return `M${x1},${y1}C${x1},${bend} ${x2},${bend} ${x2},${y2}`;
}
