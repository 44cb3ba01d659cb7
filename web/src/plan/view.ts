import { getRouteApi } from "@tanstack/react-router";
import { useCallback, useMemo } from "react";

import { formatSelection, parseFault, parseSelection, type Fault, type Selection } from "./selection";

export const MOMENTS = ["at_once", "noticed", "settled"] as const;
export type Moment = (typeof MOMENTS)[number];

/** What the address bar says of the view: everything on the board follows from it. */
export interface ViewSearch {
  drill?: string | undefined;
  at?: number | undefined;
  select?: string | undefined;
  lost?: string | undefined;
  /** Regions unfolded though there is little room. */
  open?: string | undefined;
  /** `touched`, or `client:NAME`: only the groups that the fault touches, or that the client reaches. */
  only?: string | undefined;
  moment?: Moment | undefined;
  /** Whether `lost` names what is added only now, instead of what is lost. */
  as?: "added" | undefined;
  /** The kind of object that is being added. */
  add?: string | undefined;
  /** The parts that a traced request passes, from client to target. */
  lit?: string | undefined;
}

/** Keeps what is understood of a search and drops the rest. */
export function readSearch(search: Record<string, unknown>): ViewSearch {
  const text = (value: unknown) => (typeof value === "string" && value ? value : undefined);
  const at = Number(search["at"]);
  const moment = MOMENTS.find((one) => one === search["moment"]);
  return {
    drill: text(search["drill"]),
    at: search["at"] !== undefined && Number.isFinite(at) && at >= 0 ? at : undefined,
    select: text(search["select"]),
    lost: text(search["lost"]),
    open: text(search["open"]),
    only: text(search["only"]),
    lit: text(search["lit"]),
    add: text(search["add"]),
    as: search["as"] === "added" ? "added" : undefined,
    moment,
  };
}

const route = getRouteApi("/plans/$key/board");

/** What is broken once a part is broken too, or brought back where it is broken. */
export function toggled(lost: Fault[], one: Fault): Fault[] {
  const text = formatSelection(one);
  const left = lost.filter((other) => formatSelection(other) !== text);
  return left.length < lost.length ? left : [...lost, one];
}

/** The view and how to change it. */
export function useView() {
  const { key } = route.useParams();
  const search = route.useSearch();
  const navigate = route.useNavigate();

  const change = useCallback(
    (changes: ViewSearch, replace = true) => {
      void navigate({ search: (before: ViewSearch) => ({ ...before, ...changes }), replace });
    },
    [navigate],
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
