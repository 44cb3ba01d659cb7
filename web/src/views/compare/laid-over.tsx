/** The time lines of one drill, before and after, laid over each other under one cursor. */
import { useState, type PointerEvent } from "react";

import type { DrillAnswer } from "../../api/client";
import { clock, perSecond } from "../../kit/format";
import { useDrill, type Asked } from "../../plan/queries";
import { points, rateAt, type Course } from "./over";

const [WIDTH, HEIGHT] = [1000, 64];

export function LaidOver({ drill, before, after }: { drill: string; before: Asked; after: Asked }) {
  const [a, b] = [useDrill(before, drill, true), useDrill(after, drill, true)];
  const [at, setAt] = useState<number>();
  if (!a.data || !b.data) return null;
  const lasts = Math.max(a.data.lasts_s, b.data.lasts_s);
  const both = [a.data, b.data] as const;
  const lanes = [
    { called: "failing", courses: both.map((one) => course(one, "all_failed_rps")) },
    { called: "served", courses: both.map((one) => course(one, "served_rps")) },
  ];
  const point = (event: PointerEvent<HTMLDivElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    setAt(Math.round(Math.min(Math.max((event.clientX - box.left) / box.width, 0), 1) * lasts));
  };
  return (
    <figure className="mt-1.5" data-testid={`over-${drill}`}>
      <div className="relative" onPointerMove={point} onPointerDown={point}>
        {lanes.map((lane) => <Lane key={lane.called} {...lane} lasts={lasts} />)}
        {at !== undefined && <span className="pointer-events-none absolute inset-y-0 w-px bg-ink" style={{ left: `${(at / lasts) * 100}%` }} />}
      </div>
      <input type="range" className="w-full accent-[var(--north)]" aria-label={`Second of ${drill}`} min={0} max={lasts} step={1} value={at ?? 0} aria-valuetext={clock(at ?? 0)} onChange={(event) => setAt(Number(event.target.value))} />
      <figcaption className="flex flex-wrap gap-x-4 text-[12px] text-ink-soft tabular-nums" aria-live="polite">
        <span><Key dashed /> before <Key /> after, from 0:00 to {clock(lasts)}</span>
        {at !== undefined && <span>at <b className="font-semibold text-ink">{clock(at)}</b></span>}
        {at !== undefined && lanes.map(({ called, courses: [first, second] }) => <span key={called}>{called} {perSecond(rateAt(first as Course, at))} → <b className="font-semibold text-ink">{perSecond(rateAt(second as Course, at))}</b></span>)}
      </figcaption>
    </figure>
  );
}

function course({ series, lasts_s }: DrillAnswer, rate: "all_failed_rps" | "served_rps"): Course {
  return { t_s: series.t_s, rps: series[rate], before: series.before?.[rate] ?? series[rate], lasts_s };
}

function Key({ dashed = false }: { dashed?: boolean }) {
  return <svg width="22" height="6" className="mr-1 inline-block" aria-hidden="true"><line x1="0" x2="22" y1="3" y2="3" {...stroke(dashed)} /></svg>;
}

function stroke(dashed: boolean) {
  return { stroke: dashed ? "var(--ink-soft)" : "var(--north)", strokeWidth: 1.75, strokeDasharray: dashed ? "5 3" : undefined, vectorEffect: "non-scaling-stroke" as const, fill: "none" };
}

function Lane({ called, courses, lasts }: { called: string; courses: Course[]; lasts: number }) {
  const most = Math.max(...courses.flatMap((one) => one.rps));
  return (
    <div className="mb-1">
      <span className="text-[11px] text-ink-soft">{called}, up to {perSecond(most)}</span>
      <svg viewBox={`0 -3 ${WIDTH} ${HEIGHT + 6}`} preserveAspectRatio="none" className="block h-12 w-full rounded border border-line bg-panel" role="img" aria-label={`${called} before and after, up to ${perSecond(most)}`}>
        {courses.map((one, place) => <polyline key={place} points={points(one, WIDTH, HEIGHT, lasts, most)} {...stroke(place === 0)} />)}
      </svg>
    </div>
  );
}
