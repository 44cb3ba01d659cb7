import { useLayoutEffect, useRef, useState } from "react";

/** The size of an element in CSS pixels, followed as it changes; 0 before it is known. */
export function useSize() {
  const frame = useRef<HTMLDivElement>(null);
  const [size, setSize] = useState({ width: 0, height: 0 });
  useLayoutEffect(() => {
    const element = frame.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setSize({ width: element.clientWidth, height: element.clientHeight }));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  return { frame, ...size };
}
