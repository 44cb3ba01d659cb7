import { useEffect, useMemo, useRef } from "react";

/** Who only passes over is not about to press. */
const LINGERS_MS = 60;

interface Lingering {
  onPointerEnter: () => void;
  onPointerLeave: () => void;
  onFocus: () => void;
  onBlur: () => void;
}

/** For a button whose answer takes a while: calls once a pointer rests on it, or the keyboard has come to it. */
export function useLingering(then: () => void): Lingering {
  const latest = useRef(then);
  const timer = useRef<number | undefined>(undefined);
  useEffect(() => {
    latest.current = then;
  });
  useEffect(() => () => window.clearTimeout(timer.current), []);
  return useMemo(() => {
    const leave = () => window.clearTimeout(timer.current);
    const come = () => {
      leave();
      timer.current = window.setTimeout(() => latest.current(), LINGERS_MS);
    };
    return { onPointerEnter: come, onPointerLeave: leave, onFocus: come, onBlur: leave };
  }, []);
}
