import { useCallback, useMemo } from "react";

import type { BoardState, DrillAnswer, Part, PlanDocument, WhatIfAnswer } from "../api/client";
import { useAskAhead, useDrill, useDrillState, usePlan, useStateNow, useWhatIf, type Asked } from "./queries";
import { addedWords, halves, lossWords, partOf, type Fault, type Selection } from "./selection";
import type { Moment } from "./searches";
import { toggled, useView } from "./view";

/** Which of them one looks at: now, a second of a drill, a loss or an addition over time, something that is being added. */
export type Looking =
  | { mode: "now" }
  | { mode: "drill"; drill: DrillAnswer; at: number }
  | { mode: "what-if"; words: string; change: "lost" | "added"; moment: Moment; answer: WhatIfAnswer }
  | { mode: "adding"; words: string };

/** The same each time: what is drawn of it is drawn anew only for something else. */
const NOW: Looking = { mode: "now" };

export interface Shown {
  asked: Asked;
  /** The groups whose targets are asked for one by one; all where that is left out. */
  groups: string[] | undefined;
  /** Whether the state is that of the newest revision; and whether the drill at the foot is, too, so that lesser questions may be asked. */
  drawn: boolean;
  fresh: boolean;
  document: PlanDocument | undefined;
  drill: DrillAnswer | undefined;
  state: BoardState | undefined;
  looking: Looking;
  error: Error | null;
}

/** With more targets than this, only those of the selected group are asked one by one. */
const MOST_TARGETS = 400;

/** Whether the plan is small enough for every target to be drawn, and every zone's loss to be worked out unasked. */
export function isSmall(document: PlanDocument): boolean {
  const fleets = document.fleets.reduce((sum, fleet) => sum + fleet.count, 0);
  return (document.instances.length) + fleets <= MOST_TARGETS;
}

function wantedGroups(document: PlanDocument | undefined, selection: Selection | undefined): string[] | undefined {
  if (document === undefined || isSmall(document)) return undefined;
  const group = expandedGroup(selection);
  return group ? [group] : [];
}

/** The group that the selection lies in: its row expands where rows are folded. */
export function expandedGroup(selection: Selection | undefined): string | undefined {
  if (selection?.kind === "group") return selection.name;
  return selection?.kind === "berth" ? halves(selection.name)[0] : undefined;
}

/** Breaks a part, or brings it back when it is broken. What that comes to is asked for before the page is drawn anew, and by who is `about` to do it. */
export function useBreaking({ asked, groups }: Shown): { breaks: (one: Fault) => void; about: (one: Fault) => void } {
  const { lost, search, toggleLost } = useView();
  const ask = useAskAhead(asked, groups);
  const change = search.as ?? "lost";
  const about = useCallback((one: Fault) => ask(partsOf(toggled(lost, one)), change), [ask, change, lost]);
  const breaks = useCallback(
    (one: Fault) => {
      about(one);
      toggleLost(one);
    },
    [about, toggleLost],
  );
  return { breaks, about };
}

function partsOf(faults: Fault[]): Part[] {
  return faults.map((one) => partOf(one)).filter((part) => part !== undefined);
}

/** The state that the board shows, and what it is the state of: everything follows the view in the address bar. */
export function useShown(): Shown {
  const { key, search, lost, selection } = useView();
  const plan = usePlan(key);
  const document = plan.data?.document;
  const faults = useMemo(() => partsOf(lost), [lost]);
  const known = document?.drills.some((one) => one.name === search.drill);
  const drillName = known ? search.drill : document?.drills[0]?.name;
  const revision = plan.data?.head.revision;
  const asked: Asked = useMemo(() => ({ key, revision }), [key, revision]);
  const groups = useMemo(() => wantedGroups(document, selection), [document, selection]);
  const asking = faults.length > 0;
  const now = useStateNow(asked, groups, !asking && search.at === undefined);
  // What is looked at comes first: the drill at the foot waits for the board, unless the board shows the drill.
  const boardIsFresh = asking || (now.data !== undefined && !now.isPlaceholderData);
  const drill = useDrill(asked, drillName, search.at !== undefined || boardIsFresh);
  const whatIf = useWhatIf(asked, faults, groups, search.as ?? "lost");
  // While the drill of this revision is not there yet, what is kept of another may have another name.
  const drillIsFresh = !drill.isPlaceholderData;
  const inDrill = useDrillState(asked, drillIsFresh ? drill.data : undefined, asking ? undefined : search.at, groups);
  const error = plan.error ?? (asking ? whatIf.error : (now.error ?? inDrill.error ?? drill.error));
  const drawn = asking ? !whatIf.isPlaceholderData : search.at === undefined ? boardIsFresh : !inDrill.isPlaceholderData;
  const common = { asked, groups, drawn, fresh: drawn && drillIsFresh, document, drill: drill.data, error };

  if (asking && whatIf.data) {
    const moment = search.moment ?? "at_once";
    const looking: Looking = { mode: "what-if", words: search.as === "added" ? addedWords(lost) : lossWords(lost), change: search.as ?? "lost", moment, answer: whatIf.data };
    return { ...common, state: whatIf.data[moment], looking };
  }
  if (!asking && search.at !== undefined && drill.data) {
    const at = Math.min(search.at, drill.data.lasts_s);
    return { ...common, state: inDrill.data ?? now.data, looking: { mode: "drill", drill: drill.data, at } };
  }
  return { ...common, state: now.data, looking: NOW };
}
