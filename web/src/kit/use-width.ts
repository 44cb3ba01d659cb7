import { useLayoutEffect, useRef, useState } from "react";

/** The width of an element in CSS pixels, followed as it changes; 0 before it is known. */
export function useWidth() {
  const frame = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const element = frame.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setWidth(element.clientWidth));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  return { frame, width };
}
