import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { api, dataOf, type DrillAnswer, type Part } from "../api/client";

export function usePlans() {
  return useQuery({ queryKey: ["plans"], queryFn: async () => dataOf(await api.GET("/api/plans")) });
}

export function usePlan(key: string) {
  return useQuery({
    queryKey: ["plan", key],
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}", { params: { path: { key } }, signal })),
  });
}

export function useStateNow(key: string, enabled: boolean) {
  return useQuery({
    queryKey: ["plan", key, "state"],
    queryFn: async ({ signal }) => dataOf(await api.GET("/api/plans/{key}/state", { params: { path: { key } }, signal })),
    enabled,
  });
}

export function useConsequences(key: string) {
  return useQuery({
    queryKey: ["plan", key, "consequences"],
    queryFn: async ({ signal }) =>
      dataOf(await api.GET("/api/plans/{key}/consequences", { params: { path: { key } }, signal })),
  });
}

export function useDrill(key: string, drill: string | undefined) {
  return useQuery({
    queryKey: ["plan", key, "drill", drill],
    queryFn: async ({ signal }) =>
      dataOf(await api.GET("/api/plans/{key}/drills/{drill}", { params: { path: { key, drill: drill ?? "" } }, signal })),
    enabled: drill !== undefined,
  });
}

export function useStrips(key: string, drill: string | undefined, group: string | undefined) {
  return useQuery({
    queryKey: ["plan", key, "strips", drill, group],
    queryFn: async ({ signal }) =>
      dataOf(
        await api.GET("/api/plans/{key}/drills/{drill}/strips", {
          params: { path: { key, drill: drill ?? "" }, query: { group } },
          signal,
        }),
      ),
    enabled: drill !== undefined && group !== undefined,
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

export function useDrillState(key: string, answer: DrillAnswer | undefined, at: number | undefined) {
  const second = answer && at !== undefined ? askedSecond(answer, at) : undefined;
  return useQuery({
    queryKey: ["plan", key, "drill", answer?.name, "state", second],
    queryFn: async ({ signal }) =>
      dataOf(
        await api.GET("/api/plans/{key}/drills/{drill}/state", {
          params: { path: { key, drill: answer?.name ?? "" }, query: { at: second ?? 0 } },
          signal,
        }),
      ),
    enabled: second !== undefined,
    placeholderData: keepPreviousData,
  });
}

export function useWhatIf(key: string, faults: Part[]) {
  return useQuery({
    queryKey: ["plan", key, "what-if", faults],
    queryFn: async ({ signal }) =>
      dataOf(await api.POST("/api/plans/{key}/what-if", { params: { path: { key } }, body: { faults }, signal })),
    enabled: faults.length > 0,
    placeholderData: keepPreviousData,
  });
}
