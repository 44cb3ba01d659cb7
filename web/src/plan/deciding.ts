/** What one decides by: two plans side by side, variants, sweeps, the log; and what one decides. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { api, dataOf, type PlanWhole } from "../api/client";
import { notify } from "../kit/notify";
import { changeWords } from "./edit";
import { answerKey, type Asked } from "./queries";

/** An earlier revision (the agreed one by default), or another plan as it is now. */
export interface Before {
  since: number | undefined;
  beside: string | undefined;
}

/** A change, and the order in which its steps are to be taken where that is not the usual one. */
export interface Ordered extends Before {
  order: string | undefined;
}

/** Two revisions, or plans, side by side. */
export function useCompare({ key, revision }: Asked, { since, beside }: Before) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "compare", since, beside),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/compare", { params: { path: { key }, query: { revision, since, beside } }, signal })),
    enabled: revision !== undefined,
  });
}

/** What each loss costs before and after, where that differs. */
export function useLossesCompared({ key, revision }: Asked, { since, beside }: Before) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "compare losses", since, beside),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/compare/losses", { params: { path: { key }, query: { revision, since, beside } }, signal })),
    enabled: revision !== undefined,
    retry: false,
  });
}

export function useLossesComparedProgress({ key, revision }: Asked, { since, beside }: Before, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "compare losses progress", since, beside),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/compare/losses/progress", { params: { path: { key }, query: { revision, since, beside } }, signal })),
    enabled: enabled && revision !== undefined,
    refetchInterval: 300,
    gcTime: 0,
  });
}

/** The way from the earlier to the later, rehearsed. */
export function useChange({ key, revision }: Asked, { since, beside, order }: Ordered) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "change", since, beside, order),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/change", { params: { path: { key }, query: { revision, since, beside, order } }, signal })),
    enabled: revision !== undefined,
    // While another order is rehearsed, the last one stays.
    placeholderData: (last, query) => (answerKey({ key, revision }, "change", since, beside).every((one, place) => query?.queryKey[place] === one) ? last : undefined),
    retry: false,
  });
}

export function useChangeProgress({ key, revision }: Asked, { since, beside, order }: Ordered, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "change progress", since, beside, order),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/change/progress", { params: { path: { key }, query: { revision, since, beside, order } }, signal })),
    enabled: enabled && revision !== undefined,
    refetchInterval: 300,
    gcTime: 0,
  });
}

/** The board at a second of a change; while another second is asked for, the last one stays. */
export function useChangeMoment({ key, revision }: Asked, { since, beside, order }: Ordered, at: number | undefined) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "change state", since, beside, order, at),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/change/state", { params: { path: { key }, query: { revision, since, beside, order, at: at ?? 0 } }, signal })),
    enabled: revision !== undefined && at !== undefined,
    placeholderData: keepPreviousData,
  });
}

/** A usual change, and what was said where it asks. */
export interface Usually {
  code: string;
  said: string[];
}

export function useUsualChanges({ key, revision }: Asked) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "usual"),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/usual", { params: { path: { key }, query: { revision } }, signal })),
    enabled: revision !== undefined,
  });
}

export function useUsual({ key, revision }: Asked, { code, said }: Usually) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "usual change", code, said),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/usual/{code}", { params: { path: { key, code }, query: { revision, said } }, signal })),
    enabled: revision !== undefined,
    retry: false,
  });
}

export function useUsualProgress({ key, revision }: Asked, { code, said }: Usually, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "usual progress", code, said),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/usual/{code}/progress", { params: { path: { key, code }, query: { revision, said } }, signal })),
    enabled: enabled && revision !== undefined,
    refetchInterval: 300,
    gcTime: 0,
  });
}

export function useUsualMoment({ key, revision }: Asked, { code, said }: Usually, at: number | undefined) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "usual state", code, said, at),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/usual/{code}/state", { params: { path: { key, code }, query: { revision, said, at: at ?? 0 } }, signal })),
    enabled: revision !== undefined && at !== undefined,
    placeholderData: keepPreviousData,
  });
}

/** A drill and one or two settings of which every value is tried. */
export interface Swept {
  drill: string;
  reading: string;
  set: string[];
}

export function useSweep({ key, revision }: Asked, swept: Swept | undefined) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "sweep", swept),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/sweep", { params: { path: { key }, query: { revision, drill: "", ...swept, set: swept?.set ?? [] } }, signal })),
    enabled: revision !== undefined && swept !== undefined,
    retry: false,
  });
}

export function useSweepProgress({ key, revision }: Asked, swept: Swept | undefined, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "sweep progress", swept),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/sweep/progress", { params: { path: { key }, query: { revision, drill: "", ...swept, set: swept?.set ?? [] } }, signal })),
    enabled: enabled && revision !== undefined && swept !== undefined,
    refetchInterval: 300,
    gcTime: 0,
  });
}

/** Every number of the plan that can be swept. */
export function useSettings({ key, revision }: Asked) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "settings"),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/sweep/settings", { params: { path: { key }, query: { revision } }, signal })),
    enabled: revision !== undefined,
  });
}

/** Every drill of the plan and its variants on each of them; `revision` is that of this one: the others are asked as they are. */
export function useMatrix({ key, revision }: Asked) {
  return useQuery({
    queryKey: ["matrix", key, revision],
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/matrix", { params: { path: { key } }, signal })),
    enabled: revision !== undefined,
    staleTime: 0,
  });
}

export function useVariants(key: string) {
  return useQuery({
    queryKey: ["variants", key],
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/variants", { params: { path: { key } }, signal })),
    staleTime: 0,
  });
}

/** The log at a revision; what somebody says of one shows at once. */
export function useLog({ key, revision }: Asked) {
  return useQuery({
    queryKey: ["log", key, revision],
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/log", { params: { path: { key } }, signal })),
    enabled: revision !== undefined,
    staleTime: 0,
  });
}

/** What stands in the way of agreeing. */
export function useGate({ key, revision }: Asked) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "gate"),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/gate", { params: { path: { key }, query: { revision } }, signal })),
    enabled: revision !== undefined,
  });
}

/** What is decided: each shows the plan as it then is. */
export function useDeciding(key: string) {
  const client = useQueryClient();
  const onError = (error: Error) => notify(error.message, { tone: "error" });
  const shown = (whole: PlanWhole) => {
    client.setQueryData(["plan", key], { head: whole.head, document: whole.document });
    for (const kind of ["plans", "log", "matrix", "variants"]) void client.invalidateQueries({ queryKey: kind === "plans" ? [kind] : [kind, key] });
  };
  const params = () => ({ path: { key }, header: { "if-match": `"${client.getQueryData<PlanWhole>(["plan", key])?.head.revision ?? 0}"` } });
  const scope = { id: `edits of ${key}` };

  const stand = useMutation({
    scope,
    mutationFn: async ({ agreed, who, why }: { agreed: boolean; who: string; why: string }) =>
      dataOf(agreed ? await api.POST("/api/plans/{key}/agree", { params: params(), body: { who, why } }) : await api.POST("/api/plans/{key}/look-over", { params: params(), body: { who, why } })),
    onSuccess: (whole, { agreed }) => {
      shown(whole);
      notify(`Revision ${whole.head.revision} is ${agreed ? "agreed" : "looked over"}`, { tone: "success" });
    },
    onError,
  });
  const goTo = useMutation({
    scope,
    mutationFn: async (revision: number) => dataOf(await api.POST("/api/plans/{key}/go-to", { params: { ...params(), query: { revision } } })),
    onSuccess: (whole) => {
      shown(whole);
      notify(`The plan is at revision ${whole.head.revision}. ${changeWords(whole.changes)}`);
    },
    onError,
  });
  const takeOver = useMutation({
    scope,
    mutationFn: async (variant: string) => dataOf(await api.POST("/api/plans/{key}/take-over", { params: { ...params(), query: { variant } } })),
    onSuccess: (whole) => {
      shown(whole);
      notify(`Taken over: ${changeWords(whole.changes)}`, { tone: "success" });
    },
    onError,
  });
  const reason = useMutation({
    mutationFn: async (body: { revision: number; reason: string }) => api.PUT("/api/plans/{key}/log/reason", { params: { path: { key } }, body }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["log", key] }),
    onError,
  });
  return { stand, goTo, takeOver, reason };
}

/** Begins a variant as the plan is now. */
export function useTryVariant(key: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (name: string) => dataOf(await api.POST("/api/plans/{key}/variants", { params: { path: { key } }, body: { name } })),
    onSuccess: async () => {
      await Promise.all([["plans"], ["variants"], ["matrix"]].map((queryKey) => client.invalidateQueries({ queryKey })));
    },
    onError: (error: Error) => notify(error.message, { tone: "error" }),
  });
}
