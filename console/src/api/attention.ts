import { useInfiniteQuery } from "@tanstack/react-query";

import { useChange } from "./change";
import { api, ask, type Attention } from "./client";

/** What needs attention, what weighs most first. */
export function useAttention() {
  return useInfiniteQuery({
    queryKey: ["attention"],
    queryFn: ({ pageParam }) => ask(api.GET("/api/v1/attention", { params: { query: { cursor: pageParam || undefined, limit: 50 } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}

/** Records why something needs no attention as it is. */
export function useSettle(of: Attention) {
  return useChange<{ reason: string }, unknown>(["attention", "overview", "batch", "key"], (body) =>
    of.batch
      ? ask(api.POST("/api/v1/batches/{id}/settlement", { params: { path: { id: of.batch.id } }, body }))
      : ask(api.POST("/api/v1/keys/{fingerprint}/settlement", { params: { path: { fingerprint: of.key?.fingerprint ?? "" } }, body })),
  );
}
