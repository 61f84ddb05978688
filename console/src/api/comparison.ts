import { useInfiniteQuery } from "@tanstack/react-query";

import { api, ask } from "./client";

/** What differs between two batches, with its files a part at a time. */
export function useComparison(before: number, after: number) {
  return useInfiniteQuery({
    queryKey: ["comparison", before, after],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/batches/{id}/comparison/{other}", {
          params: { path: { id: before, other: after }, query: { cursor: pageParam || undefined, limit: 200 } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}
