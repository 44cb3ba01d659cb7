/** What is wrong with the plan, and what losses cost. */
import { keepPreviousData, matchQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { api, dataOf, type PlanDocument, type Schemas } from "../api/client";
import { SEVERITIES, type SizingSearch } from "./searches";
import { answerKey, type Asked } from "./queries";
import type { Selection } from "./selection";
import { objectAt } from "./trouble";

export type Finding = Schemas["FindingAnswer"];
export type Severity = Finding["severity"];
export type Loss = Schemas["LossRow"];

export { SEVERITIES } from "./searches";
/** What a severity means. */
export const MEANS: Record<Severity, string> = { stops: "Traffic cannot flow as planned", risks: "It flows until something fails", advice: "Worth a thought" };

/** The findings; with what losses come to, which takes longer, where that is wanted. */
export function useFindings({ key, revision }: Asked, losses: boolean, enabled = true) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "findings", losses),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/findings", { params: { path: { key }, query: { revision, losses } }, signal })),
    enabled: enabled && revision !== undefined,
    placeholderData: losses ? undefined : keepPreviousData,
  });
}

/** How long nothing has to be asked for what one waits for before something else is, in ms. */
const CALM_MS = 100;

/** Whether what one looks at is there for a revision, so that what stands beside it may be asked for. */
function useCalm({ key, revision }: Asked): boolean {
  const client = useQueryClient();
  const [calm, setCalm] = useState<number>();
  useEffect(() => {
    if (revision === undefined) return;
    const state = answerKey({ key, revision }, "state");
    let timer: number | undefined;
    const settle = () => {
      window.clearTimeout(timer);
      if (client.isFetching({ queryKey: state }) === 0) timer = window.setTimeout(() => setCalm(revision), CALM_MS);
    };
    // Of all that happens to what is asked, only what happens to the state is looked at: very much does.
    const leave = client.getQueryCache().subscribe(({ type, query }) => {
      if (type === "updated" && matchQuery({ queryKey: state }, query)) settle();
    });
    settle();
    return () => {
      leave();
      window.clearTimeout(timer);
    };
  }, [client, key, revision]);
  return calm === revision;
}

/** The most that is known of a revision's findings: with losses where these have been computed already. */
export function useKnownFindings(asked: Asked) {
  const quick = useFindings(asked, false, useCalm(asked));
  const whole = useFindings(asked, true, false);
  return whole.data ?? quick.data;
}

/** What the plan costs by its own prices, asked for once what one looks at is there. */
export function useCost({ key, revision }: Asked) {
  const calm = useCalm({ key, revision });
  return useQuery({
    queryKey: answerKey({ key, revision }, "cost"),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/cost", { params: { path: { key }, query: { revision } }, signal })),
    enabled: calm && revision !== undefined,
    placeholderData: keepPreviousData,
  });
}

export function useLosses({ key, revision }: Asked, pairs: boolean, enabled = true) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "losses", pairs),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/losses", { params: { path: { key }, query: { revision, pairs } }, signal })),
    enabled: enabled && revision !== undefined,
  });
}

/** How much is enough. */
export function useSizing({ key, revision }: Asked, { survive, below, failed, surge }: SizingSearch) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "sizing", survive, below, failed, surge),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/sizing", { params: { path: { key }, query: { revision, survive, below, failed_below: failed, surge } }, signal })),
    enabled: revision !== undefined,
  });
}

/** How many losses have been computed, asked again and again while they are. */
export function useLossesProgress({ key, revision }: Asked, pairs: boolean, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "losses progress", pairs),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/losses/progress", { params: { path: { key }, query: { revision, pairs } }, signal })),
    enabled: enabled && revision !== undefined,
    refetchInterval: 300,
    gcTime: 0,
  });
}

/** The object of the plan that a finding is about, by its place. */
export function objectOf(document: PlanDocument, finding: Finding): Selection | undefined {
  const zone = /^\/regions\/(\d+)\/zones\/(\d+)/.exec(finding.where);
  if (zone) return { kind: "zone", name: document.regions[Number(zone[1])]?.zones[Number(zone[2])] ?? "" };
  return objectAt(document, finding.where);
}

/** The findings that stand and belong to what is selected. */
export function findingsOf(document: PlanDocument, findings: Finding[], selection: Selection): Finding[] {
  return findings.filter((one) => {
    const object = one.because === null ? objectOf(document, one) : undefined;
    return object?.kind === selection.kind && object.name === selection.name;
  });
}

/** The worst severity among findings that stand, by object (`kind:name`). */
export function worstByObject(document: PlanDocument, findings: Finding[]): Map<string, Severity> {
  const worst = new Map<string, Severity>();
  for (const one of findings) {
    const object = one.because === null ? objectOf(document, one) : undefined;
    if (!object) continue;
    const at = `${object.kind}:${object.name}`;
    const before = worst.get(at);
    if (!before || SEVERITIES.indexOf(one.severity) < SEVERITIES.indexOf(before)) worst.set(at, one.severity);
  }
  return worst;
}
