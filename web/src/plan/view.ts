import { useCallback, useMemo } from "react";

import type { ViewSearch } from "./searches";
import { formatSelection, parseFault, parseSelection, type Fault, type Selection } from "./selection";
import { useRoute } from "./route";


/** What is broken once a part is broken too, or brought back where it is broken. */
export function toggled(lost: Fault[], one: Fault): Fault[] {
  const text = formatSelection(one);
  const left = lost.filter((other) => formatSelection(other) !== text);
  return left.length < lost.length ? left : [...lost, one];
}

/** The view and how to change it. */
export function useView() {
  const { params: { key }, search, say } = useRoute("/plans/:key/board");

  const change = useCallback(
    (changes: ViewSearch, replace = true) => {
      say((before) => ({ ...before, ...changes }), replace);
    },
    [say],
  );
  const selection = useMemo(() => parseSelection(search.select), [search.select]);
  const lost = useMemo(
    () => (search.lost?.split(",") ?? []).map(parseFault).filter((one) => one !== undefined),
    [search.lost],
  );
  const select = useCallback(
    (one: Selection | undefined) => change({ select: one && formatSelection(one) }, false),
    [change],
  );
  /** Breaks a part, or brings it back when it is broken; the board then shows "what if". */
  const toggleLost = useCallback(
    (one: Fault) => {
      performance.mark("what-if-asked");
      const next = toggled(lost, one).map(formatSelection);
      change({ lost: next.join(",") || undefined, as: next.length ? search.as : undefined, moment: next.length ? (search.moment ?? "at_once") : undefined }, false);
    },
    [change, lost, search.moment, search.as],
  );
  return { key, search, selection, lost, change, select, toggleLost };
}
