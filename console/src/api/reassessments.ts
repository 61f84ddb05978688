import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";

import { useChange } from "./change";
import { api, ask } from "./client";

export function useAskReach(fingerprint: string) {
  return useMutation({ mutationFn: () => ask(api.POST("/api/v1/keys/{fingerprint}/reach", { params: { path: { fingerprint } } })) });
}

/** A question that takes a while, looked at until it is answered. */
export function useInquiry(id: number | undefined) {
  return useQuery({
    queryKey: ["inquiry", id],
    queryFn: () => ask(api.GET("/api/v1/inquiries/{id}", { params: { path: { id: id ?? 0 } } })),
    enabled: id !== undefined,
    refetchInterval: (query) => (query.state.data?.state === "waiting" ? 400 : false),
  });
}

export function useReassess() {
  return useChange(["reassessment"], (body: { batch?: number; key?: string; publisher?: string; reason: string }) =>
    ask(api.POST("/api/v1/reassessments", { body })),
  );
}

export function useReassessment(id: number) {
  return useQuery({
    queryKey: ["reassessment", id],
    queryFn: () => ask(api.GET("/api/v1/reassessments/{id}", { params: { path: { id } } })),
    refetchInterval: (query) => (query.state.data?.state === "waiting" ? 1_000 : false),
  });
}

/** What a list of reassessments is narrowed to. */
export interface RunFilter {
  key?: string;
  rules?: boolean;
}

export function useReassessments(filter: RunFilter = {}, limit = 50) {
  return useInfiniteQuery({
    queryKey: ["reassessments", filter, limit],
    queryFn: ({ pageParam }) =>
      ask(api.GET("/api/v1/reassessments", { params: { query: { ...filter, cursor: pageParam || undefined, limit } } })),
    refetchInterval: (query) => (query.state.data?.pages.some((p) => p.items.some((r) => r.state === "waiting")) ? 1_000 : false),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}

/** What a reassessment changed, beyond what it is shown with. */
export function useRejudged(id: number) {
  return useInfiniteQuery({
    queryKey: ["rejudged", id],
    queryFn: ({ pageParam }) =>
      ask(api.GET("/api/v1/reassessments/{id}/items", { params: { path: { id }, query: { cursor: pageParam || undefined, limit: 100 } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}
