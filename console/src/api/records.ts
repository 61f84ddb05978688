import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";

import { api, ask } from "./client";
import { among, recordKindValues, verdictValues } from "./words";

export function useRecords(filter: { name: string; kind: string; verdict: string; batch: string }) {
  return useInfiniteQuery({
    queryKey: ["records", filter],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/records", {
          params: {
            query: {
              name: filter.name || undefined,
              kind: among(recordKindValues, filter.kind),
              verdict: among(verdictValues, filter.verdict),
              batch: filter.batch ? Number(filter.batch) : undefined,
              cursor: pageParam || undefined,
              limit: 50,
            },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}

export function useRecord(position: number) {
  return useQuery({
    queryKey: ["record", position],
    queryFn: () => ask(api.GET("/api/v1/records/{position}", { params: { path: { position } } })),
  });
}

export function useAudit() {
  return useMutation({ mutationFn: () => ask(api.POST("/api/v1/ledger/audits", { body: {} })) });
}
