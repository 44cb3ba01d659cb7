import { keepPreviousData, queryOptions, useQuery, useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useCallback } from "react";

import { api, dataOf, type DrillAnswer, type Part, type Schemas } from "../api/client";
import type { Operation } from "./operations";

/** Everything but the plan itself is asked of one revision, which never changes: its answers stay true. */
export interface Asked {
  key: string;
  revision: number | undefined;
}

export function usePlans() {
  return useQuery({ queryKey: ["plans"], queryFn: async () => dataOf(await api.GET("/api/plans")) });
}

export function usePlan(key: string, enabled = true) {
  return useQuery({
    enabled,
    queryKey: ["plan", key],
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}", { params: { path: { key } }, signal })),
  });
}

export function useSchema(enabled = true) {
  return useQuery({ enabled, queryKey: ["schema"], queryFn: async () => dataOf(await api.GET("/api/schema")) });
}

export function answerKey({ key, revision }: Asked, ...question: unknown[]) {
  return ["answer", key, revision, ...question];
}

/** `groups`: whose targets are wanted one by one, where there are very many. */
function stateNow({ key, revision }: Asked, groups: string[] | undefined) {
  return queryOptions({
    queryKey: answerKey({ key, revision }, "state", groups),
    queryFn: async ({ signal }) =>
      dataOf(await api.GET("/api/plans/{key}/state", { params: { path: { key }, query: { revision, groups } }, signal })),
  });
}

export function useStateNow(asked: Asked, groups: string[] | undefined, enabled: boolean) {
  return useQuery({ ...stateNow(asked, groups), enabled: enabled && asked.revision !== undefined, placeholderData: keepPreviousData });
}

/** Asks for the state of a new revision at once, before anything is drawn anew, if one looks at that of an earlier one. */
export function askStateAhead(client: QueryClient, asked: Asked): void {
  for (const seen of client.getQueryCache().findAll({ queryKey: ["answer", asked.key], type: "active" })) {
    if (seen.queryKey[3] === "state") void client.prefetchQuery(stateNow(asked, seen.queryKey[4] as string[] | undefined));
  }
}

export function useConsequences({ key, revision }: Asked, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "consequences"),
    queryFn: async ({ signal }) =>
      dataOf(await api.GET("/api/plans/{key}/consequences", { params: { path: { key }, query: { revision } }, signal })),
    enabled: enabled && revision !== undefined,
    placeholderData: keepPreviousData,
  });
}

export function useZoneLosses({ key, revision }: Asked, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "zone-losses"),
    queryFn: async ({ signal }) =>
      dataOf(await api.GET("/api/plans/{key}/zone-losses", { params: { path: { key }, query: { revision } }, signal })),
    enabled: enabled && revision !== undefined,
    placeholderData: keepPreviousData,
  });
}

/** A listener's rules; with a request: which of them takes it. */
export function useRules({ key, revision }: Asked, balancer: string, listener: string, request?: { url: string; method: string; headers: string }) {
  const asked = request && { url: request.url, method: request.method, header: request.headers.split("\n").filter((line) => line.includes(":")) };
  return useQuery({
    queryKey: answerKey({ key, revision }, "rules", balancer, listener, asked),
    queryFn: async ({ signal }) =>
      dataOf(
        await api.GET("/api/plans/{key}/rules", {
          params: { path: { key }, query: { revision, balancer, listener, ...asked } },
          signal,
        }),
      ),
    enabled: revision !== undefined && asked?.url !== "",
    placeholderData: keepPreviousData,
  });
}

export function useTrace({ key, revision }: Asked, question: Schemas["TraceQuestion"] | undefined) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "trace", question),
    queryFn: async ({ signal }) =>
      dataOf(await api.POST("/api/plans/{key}/trace", { params: { path: { key }, query: { revision } }, body: question ?? ({} as never), signal })),
    enabled: revision !== undefined && question !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
  });
}

export function useDifference({ key, revision }: Asked, since: number | undefined) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "difference", since),
    queryFn: async ({ signal }) =>
      dataOf(
        await api.GET("/api/plans/{key}/difference", {
          params: { path: { key }, query: { revision, since: since ?? 1 } },
          signal,
        }),
      ),
    enabled: revision !== undefined && since !== undefined,
  });
}

export function useDrill({ key, revision }: Asked, drill: string | undefined, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "drill", drill),
    queryFn: async ({ signal }) =>
      dataOf(
        await api.GET("/api/plans/{key}/drills/{drill}", {
          params: { path: { key, drill: drill ?? "" }, query: { revision, utilisation: false } },
          signal,
        }),
      ),
    enabled: enabled && drill !== undefined && revision !== undefined,
    placeholderData: keepPreviousData,
  });
}

export function useLevers({ key, revision }: Asked, drill: string | undefined, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "levers", drill),
    queryFn: async ({ signal }) =>
      dataOf(await api.GET("/api/plans/{key}/drills/{drill}/levers", { params: { path: { key, drill: drill ?? "" }, query: { revision } }, signal })),
    enabled: enabled && drill !== undefined && revision !== undefined,
  });
}

/** The second to which a drill has been run, asked again and again while it is. */
export function useProgress({ key, revision }: Asked, drill: string | undefined, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "progress", drill),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/drills/{drill}/progress", { params: { path: { key, drill: drill ?? "" }, query: { revision } }, signal })),
    enabled: enabled && drill !== undefined && revision !== undefined,
    refetchInterval: 300,
    gcTime: 0,
  });
}

export function usePhases({ key, revision }: Asked, drill: string | undefined, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "phases", drill),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/drills/{drill}/phases", { params: { path: { key, drill: drill ?? "" }, query: { revision } }, signal })),
    enabled: enabled && drill !== undefined && revision !== undefined,
    placeholderData: keepPreviousData,
  });
}

export function useFoldedStrips({ key, revision }: Asked, drill: string | undefined, enabled: boolean) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "folded", drill),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/drills/{drill}/folded", { params: { path: { key, drill: drill ?? "" }, query: { revision } }, signal })),
    enabled: enabled && drill !== undefined && revision !== undefined,
    placeholderData: keepPreviousData,
  });
}

export function useStrips({ key, revision }: Asked, drill: string | undefined, group: string | undefined, enabled: boolean, everything = false) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "strips", drill, group),
    queryFn: async ({ signal }) =>
      dataOf(
        await api.GET("/api/plans/{key}/drills/{drill}/strips", {
          params: { path: { key, drill: drill ?? "" }, query: { group, revision } },
          signal,
        }),
      ),
    enabled: enabled && drill !== undefined && (group !== undefined || everything) && revision !== undefined,
    placeholderData: keepPreviousData,
  });
}

/** The last event of a drill up to a second. */
export function eventIndexAt(times: readonly number[], second: number): number {
  let low = 0;
  let high = times.length - 1;
  while (low < high) {
    const middle = Math.ceil((low + high) / 2);
    if ((times[middle] ?? Infinity) <= second) low = middle;
    else high = middle - 1;
  }
  return low;
}

/** The second to ask for: between two events nothing changes, unless a backlog moves. */
export function askedSecond(answer: DrillAnswer, at: number): number {
  const index = eventIndexAt(answer.series.t_s, at);
  return answer.moving[index] ? Math.round(at * 2) / 2 : (answer.series.t_s[index] ?? 0);
}

export function useDrillState({ key, revision }: Asked, answer: DrillAnswer | undefined, at: number | undefined, groups: string[] | undefined) {
  const second = answer && at !== undefined ? askedSecond(answer, at) : undefined;
  return useQuery({
    queryKey: answerKey({ key, revision }, "drill", answer?.name, "state", second, groups),
    queryFn: async ({ signal }) =>
      dataOf(
        await api.GET("/api/plans/{key}/drills/{drill}/state", {
          params: { path: { key, drill: answer?.name ?? "" }, query: { at: second ?? 0, revision, groups } },
          signal,
        }),
      ),
    enabled: second !== undefined && revision !== undefined,
    placeholderData: keepPreviousData,
  });
}

/** The plan's index, and what it still lacks. */
export function useIndex({ key, revision }: Asked, enabled = true) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "index"),
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/index", { params: { path: { key }, query: { revision } }, signal })),
    enabled: enabled && revision !== undefined,
    placeholderData: keepPreviousData,
  });
}

/** What an edit would make of the plan. */
export function usePreview({ key, revision }: Asked, patch: Operation[] | undefined, groups: string[] | undefined) {
  return useQuery({
    queryKey: answerKey({ key, revision }, "preview", patch, groups),
    queryFn: async ({ signal }) =>
      dataOf(await api.POST("/api/plans/{key}/preview", { params: { path: { key }, query: { revision } }, body: { patch: patch ?? [], groups }, signal })),
    enabled: revision !== undefined && patch !== undefined,
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
}

/** `change`: whether the parts are lost, or added only now. */
function whatIf({ key, revision }: Asked, faults: Part[], groups: string[] | undefined, change: "lost" | "added") {
  return queryOptions({
    queryKey: answerKey({ key, revision }, "what-if", faults, groups, change),
    queryFn: async ({ signal }) =>
      dataOf(
        await api.POST("/api/plans/{key}/what-if", {
          params: { path: { key }, query: { revision } },
          // "Exactly one of these fields" is more than the generated type can say.
          body: { faults, groups, change } as never,
          signal,
        }),
      ),
  });
}

export function useWhatIf(asked: Asked, faults: Part[], groups: string[] | undefined, change: "lost" | "added") {
  return useQuery({ ...whatIf(asked, faults, groups, change), enabled: faults.length > 0 && asked.revision !== undefined, placeholderData: keepPreviousData });
}

/** Asks what a loss comes to before the page knows that it will show it: the answer is under way while it is drawn. */
export function useAskAhead({ key, revision }: Asked, groups: string[] | undefined) {
  const client = useQueryClient();
  return useCallback(
    (faults: Part[], change: "lost" | "added") => {
      if (faults.length > 0 && revision !== undefined) void client.prefetchQuery(whatIf({ key, revision }, faults, groups, change));
    },
    [client, key, revision, groups],
  );
}
