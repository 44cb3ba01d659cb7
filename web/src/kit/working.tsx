import { amount, percent } from "./format";
import { Button } from "./parts";

export interface WorkingProps {
  /** What is done, and what is said when it was stopped before its end. */
  doing: string;
  stopped: string;
  /** What the bar shows, for those who hear it. */
  called: string;
  again: string;
  running: boolean;
  /** How much is done, of how much; a share (0 to 1) where there is nothing to count. */
  done: number | { done: number | null; of: number | null } | undefined;
  /** How many are computed before it. */
  waits?: number | null | undefined;
  onStop: () => void;
  onAgain: () => void;
}

/** How far long work has come; it can be stopped, and begun again. */
export function Working({ doing, stopped, called, again, running, done, waits, onStop, onAgain }: WorkingProps) {
  const counted = typeof done === "object" && done.of ? { done: done.done ?? 0, of: done.of } : undefined;
  const share = Math.min(typeof done === "number" ? done : counted ? counted.done / counted.of : 0, 1);
  const words = typeof done === "number" ? percent(share) : counted ? `${amount(counted.done)} of ${amount(counted.of)}` : "";
  return (
    <div className="flex flex-col items-start gap-3">
      <p role="status" className="text-ink-soft">{!running ? stopped : waits ? `Busy: ${amount(waits)} ${waits === 1 ? "is" : "are"} computed before it …` : `${doing} … ${words}`}</p>
      {running && (
        <div className="h-1.5 w-64 overflow-hidden rounded bg-line" role="progressbar" aria-label={called} aria-valuenow={Math.round(share * 100)} aria-valuemin={0} aria-valuemax={100}>
          <div className="h-full bg-north" style={{ width: `${share * 100}%` }} />
        </div>
      )}
      <Button onClick={running ? onStop : onAgain}>{running ? "Stop" : again}</Button>
    </div>
  );
}
