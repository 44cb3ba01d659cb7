import { useEffect, useState } from "react";

/** After these a pointer is not pressed any more, even where its release was told to a list or window of the system. */
const OVER = ["pointerup", "pointercancel", "change", "keydown"] as const;

/** What is shown stays as it is while a pointer is pressed on it: what comes meanwhile would move what is pressed away
 * from under the pointer, and nothing would come of it. */
export function useUnmoved<T>(value: T): [shown: T, pressed: { onPointerDownCapture: () => void }] {
  const [held, setHeld] = useState<{ value: T }>();
  useEffect(() => {
    if (!held) return;
    // The click comes after the pointer is released.
    const release = () => window.setTimeout(() => setHeld(undefined));
    const move = ({ buttons }: PointerEvent) => buttons === 0 && release();
    for (const end of OVER) window.addEventListener(end, release);
    window.addEventListener("pointermove", move);
    return () => {
      for (const end of OVER) window.removeEventListener(end, release);
      window.removeEventListener("pointermove", move);
    };
  }, [held]);
  return [held ? held.value : value, { onPointerDownCapture: () => setHeld({ value }) }];
}
