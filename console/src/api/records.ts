import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";

import { api, ask } from "./client";
import { among, causeCodeValues, groundCodeValues, recordKindValues, verdictValues } from "./words";

/** By what records can be looked for, as it stands in the address of the page. */
export const searched = [
  "name",
  "kind",
  "verdict",
  "batch",
  "by",
  "from",
  "to",
  "publisher",
  "key",
  "digest",
  "ground",
  "cause",
  "waiver",
  "device",
  "place",
  "label",
] as const;

export type Search = Record<(typeof searched)[number], string>;

export function useRecords(filter: Search) {
  return useInfiniteQuery({
    queryKey: ["records", filter],
    queryFn: async ({ pageParam }) => {
      const given = Object.fromEntries(Object.entries(filter).filter(([, value]) => value !== ""));
      const query = {
        ...given,
        kind: among(recordKindValues, filter.kind),
        verdict: among(verdictValues, filter.verdict),
        ground: among(groundCodeValues, filter.ground),
        cause: among(causeCodeValues, filter.cause),
        batch: filter.batch ? Number(filter.batch) : undefined,
        limit: 50,
      };
      const page = (cursor: string) => ask(api.GET("/api/v1/records", { params: { query: { ...query, cursor: cursor || undefined } } }));
      let found = await page(pageParam);
      // A long search comes in parts, of which some hold nothing.
      while (found.items.length === 0 && found.next) found = await page(found.next);
      return found;
    },
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

/** What is wrong with the ledger, if anything is; asked for now and then. */
export function useTrouble() {
  return useQuery({
    queryKey: ["trouble"],
    queryFn: () => ask(api.GET("/api/v1/status")).then((s) => s.trouble ?? ""),
    refetchInterval: 60_000,
  });
}

/** Has the ledger audited: all of it with full, or what is new since the last that held. */
export function useAudit() {
  return useMutation({ mutationFn: (full: boolean) => ask(api.POST("/api/v1/ledger/audits", { body: { full } })) });
}
