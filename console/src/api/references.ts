import { useInfiniteQuery } from "@tanstack/react-query";

import { api, ask } from "./client";

/** What files that were cleared are looked for by, as it stands in the address of the page. */
export interface LibraryFilter {
  digest: string;
  publisher: string;
  match: string;
}

/** The filter as both lists are asked by it: a digest says which file it is by itself. */
const queryOf = (filter: LibraryFilter, cursor: string) =>
  filter.digest
    ? { digest: filter.digest }
    : { publisher: filter.publisher || undefined, match: filter.match || undefined, cursor: cursor || undefined, limit: 50 };

export function useLibrary(filter: LibraryFilter) {
  return useInfiniteQuery({
    queryKey: ["references", filter],
    queryFn: ({ pageParam }) => ask(api.GET("/api/v1/references", { params: { query: queryOf(filter, pageParam) } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}

/** Digests that somebody has read somewhere. */
export function useNoted(filter: LibraryFilter) {
  return useInfiniteQuery({
    queryKey: ["references", "noted", filter],
    queryFn: ({ pageParam }) => ask(api.GET("/api/v1/references/noted", { params: { query: queryOf(filter, pageParam) } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}
