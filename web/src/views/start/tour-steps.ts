/** The tour: five steps through a plan, and whether it has been left. */

import { useSyncExternalStore } from "react";

import type { PlanDocument } from "../../api/client";

export interface TourStep {
  words: string;
  view: "board" | "drill" | "trace";
  search: Record<string, string | number>;
}

/** The steps, on a plan's own zone and drill. */
export function tourSteps(document: PlanDocument): TourStep[] {
  const drill = document.drills[0];
  const broken = drill?.steps.find((step) => step.fail);
  const zone = broken?.fail?.zone ?? document.regions[0]?.zones[0] ?? "";
  const during: TourStep["search"] = drill ? { drill: drill.name, at: Math.round((broken?.at_s ?? 0) + 29) } : {};
  return [
    { view: "board", search: {}, words: "The board. Across are the zones, down is the way of a request, and widths are rates. Pick anything to see what it is, how it does, and what its settings mean." },
    { view: "board", search: { lost: `zone:${zone}`, moment: "at_once" }, words: `What if ${zone} were lost? x breaks what has the focus. Above the board: what fails at once, once it is noticed, and once all has settled.` },
    { view: "board", search: during, words: "Time lies at the foot: a drill, here 29 seconds after its first fault. Drag the cursor, or step from event to event with . and , . Hatching is always a wrong belief." },
    { view: "drill", search: during, words: "The same drill second by second: what failed and why, who was believed wrongly for how long, and which settings would have helped, each applied with one click." },
    { view: "trace", search: {}, words: "Ask where one request goes, and why there. From anywhere: / finds any object or action, a adds to the plan, ? shows the keys, and undo reaches back through everything." },
  ];
}

const LEFT = "northgate-tour-left";

let step: number | undefined;
const watchers = new Set<() => void>();

function become(next: number | undefined): void {
  step = next;
  watchers.forEach((watcher) => {
    watcher();
  });
}

/** Begins the tour, or goes to one of its steps. */
export function tourTo(next: number): void {
  become(next);
}

/** Begins the tour for those who have not left it before. */
export function firstTour(): void {
  if (localStorage.getItem(LEFT) === null) become(0);
}

/** Leaves the tour; it does not come by itself again. */
export function leaveTour(): void {
  localStorage.setItem(LEFT, "yes");
  become(undefined);
}

/** The step of the tour, counted from 0, or undefined outside it. */
export function useTourStep(): number | undefined {
  return useSyncExternalStore(
    (watcher) => {
      watchers.add(watcher);
      return () => watchers.delete(watcher);
    },
    () => step,
  );
}
