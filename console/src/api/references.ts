import { useInfiniteQuery } from "@tanstack/react-query";

import { api, ask } from "./client";

/** What files that were cleared are looked for by, as it stands in the address of the page. */
export interface LibraryFilter {
  digest: string;
  publisher: string;
  match: string;
}

export function useLibrary(filter: LibraryFilter) {
  return useInfiniteQuery({
    queryKey: ["references", filter],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/references", {
          params: {
            query: filter.digest
              ? { digest: filter.digest }
              : {
                  publisher: filter.publisher || undefined,
                  match: filter.match || undefined,
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
