import { hashKey, useInfiniteQuery, useQuery } from "@tanstack/react-query";

import { api, ask } from "./client";
import { among, fileRoleFilterValues, verdictValues } from "./words";

/**
 * The items of a batch; match is a pattern with * and ? for their names. live is part
 * of the key: an answer that was under way when the batch was closed is of before, and
 * must not be taken for the last one.
 */
export function useItems(id: number, filter: { verdict?: string; role?: string; match?: string }, live: boolean) {
  const asked = ["items", id, filter];
  return useInfiniteQuery({
    queryKey: [...asked, live],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/batches/{id}/rows", {
          params: {
            path: { id },
            query: {
              verdict: among(verdictValues, filter.verdict),
              role: among(fileRoleFilterValues, filter.role),
              match: filter.match || undefined,
              cursor: pageParam || undefined,
              limit: 200,
            },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    // What was shown while the batch ran stays until the last answer is there, and nothing else's does.
    placeholderData: (shown, query) => (query && hashKey(query.queryKey.slice(0, -1)) === hashKey(asked) ? shown : undefined),
    refetchInterval: live ? 2_000 : false,
  });
}

export function useItem(batch: number, n: number) {
  return useQuery({
    queryKey: ["item", batch, n],
    queryFn: () => ask(api.GET("/api/v1/batches/{id}/items/{n}", { params: { path: { id: batch, n } } })),
    refetchInterval: (query) => (query.state.data && !query.state.data.settled ? 1_500 : false),
  });
}
