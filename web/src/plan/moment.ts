import { useMemo } from "react";

import type { BoardState, DrillAnswer, PlanDocument, WhatIfAnswer } from "../api/client";
import { useDrill, useDrillState, usePlan, useStateNow, useWhatIf, type Asked } from "./queries";
import { lostName, partOf } from "./selection";
import { useView, type Moment } from "./view";

/** Which of three one looks at. */
export type Looking =
  | { mode: "now" }
  | { mode: "drill"; drill: DrillAnswer; at: number }
  | { mode: "what-if"; names: string[]; moment: Moment; answer: WhatIfAnswer };

export interface Shown {
  asked: Asked;
  document: PlanDocument | undefined;
  drill: DrillAnswer | undefined;
  state: BoardState | undefined;
  looking: Looking;
  error: Error | null;
}

/** The state that the board shows, and what it is the state of: everything follows the view in the address bar. */
export function useShown(): Shown {
  const { key, search, lost } = useView();
  const plan = usePlan(key);
  const document = plan.data?.document;
  const faults = useMemo(() => lost.map(partOf).filter((part) => part !== undefined), [lost]);
  const known = document?.drills?.some((one) => one.name === search.drill);
  const drillName = known ? search.drill : document?.drills?.[0]?.name;
  const asked: Asked = { key, revision: plan.data?.head.revision };
  const drill = useDrill(asked, drillName);
  const asking = faults.length > 0;
  const whatIf = useWhatIf(asked, faults);
  const inDrill = useDrillState(asked, drill.data, asking ? undefined : search.at);
  const now = useStateNow(asked);
  const error = plan.error ?? (asking ? whatIf.error : (now.error ?? inDrill.error ?? drill.error));
  const common = { asked, document, drill: drill.data, error };

  if (asking && whatIf.data) {
    const moment = search.moment ?? "at_once";
    const looking: Looking = { mode: "what-if", names: lost.map(lostName), moment, answer: whatIf.data };
    return { ...common, state: whatIf.data[moment], looking };
  }
  if (!asking && search.at !== undefined && drill.data) {
    const at = Math.min(search.at, drill.data.lasts_s);
    return { ...common, state: inDrill.data ?? now.data, looking: { mode: "drill", drill: drill.data, at } };
  }
  return { ...common, state: now.data, looking: { mode: "now" } };
}
