import { useSyncExternalStore } from "react";

const NARROW = "(max-width: 767px)";

function watch(told: () => void): () => void {
  const query = matchMedia(NARROW);
  query.addEventListener("change", told);
  return () => query.removeEventListener("change", told);
}

/** Whether the window is so narrow, or so much enlarged, that what stands beside the work covers it instead. */
export function useNarrow(): boolean {
  return useSyncExternalStore(watch, () => matchMedia(NARROW).matches);
}
