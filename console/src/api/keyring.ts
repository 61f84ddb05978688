import { useInfiniteQuery, useQuery } from "@tanstack/react-query";

import { useKeyringChange } from "./change";
import { type Admission, api, ask, type NewSighting } from "./client";

export function useKeys(text: string) {
  return useInfiniteQuery({
    queryKey: ["keys", "list", text],
    queryFn: ({ pageParam }) =>
      ask(api.GET("/api/v1/keys", { params: { query: { limit: 200, text: text || undefined, cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (before) => before,
  });
}

/** What waits for a curator. */
export function useWaitingKeys() {
  return useQuery({
    queryKey: ["keys", "waiting"],
    queryFn: () => ask(api.GET("/api/v1/keys", { params: { query: { waiting: true, limit: 50 } } })),
  });
}

export function useKeyStep(fingerprint: string, step: "withdrawal" | "reconsideration" | "decline") {
  return useKeyringChange((body: { reason: string }) =>
    ask(api.POST(`/api/v1/keys/{fingerprint}/${step}`, { params: { path: { fingerprint } }, body })),
  );
}

export function useKeyUse(fingerprint: string) {
  return useQuery({
    queryKey: ["key", fingerprint, "use"],
    queryFn: () => ask(api.GET("/api/v1/keys/{fingerprint}/use", { params: { path: { fingerprint } } })),
  });
}

export function useResolveConflict() {
  return useKeyringChange(({ record, reason }: { record: number; reason: string }) =>
    ask(api.POST("/api/v1/sightings/{record}/resolution", { params: { path: { record } }, body: { reason } })),
  );
}

export function useKey(fingerprint: string) {
  return useQuery({
    queryKey: ["key", fingerprint],
    queryFn: () => ask(api.GET("/api/v1/keys/{fingerprint}", { params: { path: { fingerprint } } })),
  });
}

export function useSightKey(fingerprint: string) {
  return useKeyringChange((body: NewSighting) =>
    ask(api.POST("/api/v1/keys/{fingerprint}/sightings", { params: { path: { fingerprint } }, body })),
  );
}

export function useAdmitKey(fingerprint: string) {
  return useKeyringChange((body: Admission) =>
    ask(api.POST("/api/v1/keys/{fingerprint}/admission", { params: { path: { fingerprint } }, body })),
  );
}
