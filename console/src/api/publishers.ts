import { useQuery } from "@tanstack/react-query";

import { ifSeen, useKeyringChange } from "./change";
import { api, ask } from "./client";

export function useSetPublisher(slug: string, seen: string) {
  return useKeyringChange((body: { name: string; contact: string; scope: string[] }) =>
    ask(api.PATCH("/api/v1/publishers/{slug}", { params: { path: { slug }, header: ifSeen(seen) }, body })),
  );
}

export function usePublishers() {
  return useQuery({ queryKey: ["publishers"], queryFn: () => ask(api.GET("/api/v1/publishers")) });
}

export function useAddPublisher() {
  return useKeyringChange((body: { slug: string; name: string; contact: string; scope: string[] }) =>
    ask(api.POST("/api/v1/publishers", { body })),
  );
}
