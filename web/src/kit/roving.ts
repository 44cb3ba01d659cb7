import type { KeyboardEvent } from "react";

const STEPS: Partial<Record<string, number>> = { ArrowDown: 1, ArrowRight: 1, ArrowUp: -1, ArrowLeft: -1 };

/** Arrow keys go from one to the next of what is marked `data-roving` within, Home and End to the first and the last. */
export function useRoving() {
  return {
    onKeyDown: (event: KeyboardEvent<HTMLElement>) => {
      const items = [...event.currentTarget.querySelectorAll<HTMLElement>("[data-roving]")];
      const at = items.indexOf(event.target as HTMLElement);
      if (at < 0) return;
      const step = STEPS[event.key];
      const to = event.key === "Home" ? items[0] : event.key === "End" ? items.at(-1) : step && items[at + step];
      if (!to) return;
      event.preventDefault();
      to.focus();
    },
  };
}
