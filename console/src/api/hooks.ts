import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

import { api, ask, type Batch, type ComesFrom, type Correction, type GivenCopy, type Import, type Me, type Policy } from "./client";

export const mayOperate = (me?: Me) => me !== undefined && me.role !== "auditor";
export const mayCurate = (me?: Me) => me?.role === "curator" || me?.role === "administrator";

export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => ask(api.GET("/api/v1/me")), retry: false, staleTime: 60_000 });
}

export function useSignIn() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { name: string; password: string }) => ask(api.POST("/api/v1/sessions", { body })),
    onSuccess: (me) => {
      queries.clear();
      queries.setQueryData(["me"], me);
    },
  });
}

export function useSignOut() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () => ask(api.DELETE("/api/v1/sessions/current")),
    onSettled: () => {
      queries.clear();
    },
  });
}

export function useOverview() {
  return useQuery({ queryKey: ["overview"], queryFn: () => ask(api.GET("/api/v1/overview")), refetchInterval: 4_000 });
}

export function useDepots() {
  return useQuery({ queryKey: ["depots"], queryFn: () => ask(api.GET("/api/v1/depots")) });
}

export function useFolder(depot: string, path: string) {
  return useQuery({
    queryKey: ["folder", depot, path],
    queryFn: () => ask(api.GET("/api/v1/depots/{depot}/entries", { params: { path: { depot }, query: { path } } })),
    enabled: depot !== "",
  });
}

export function useBatches(verdict: string) {
  return useInfiniteQuery({
    queryKey: ["batches", verdict],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/batches", {
          params: { query: { verdict: (verdict || undefined) as never, cursor: pageParam || undefined, limit: 50 } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 5_000,
  });
}

export function useSurvey() {
  return useMutation({
    mutationFn: (body: { depot: string; path: string; corrections: Correction[] }) => ask(api.POST("/api/v1/surveys", { body })),
  });
}

export function useRunBatch() {
  return useMutation({
    mutationFn: (r: { depot: string; path: string; publisher: string; label: string; requireAll: boolean; key: string; corrections: Correction[]; origins: ComesFrom[]; copies: GivenCopy[] }) =>
      ask(
        api.POST("/api/v1/batches", {
          params: { header: { "Idempotency-Key": r.key } },
          body: {
            depot: r.depot,
            path: r.path,
            publisher: r.publisher || undefined,
            label: r.label || undefined,
            require_all: r.requireAll,
            corrections: r.corrections,
            origins: r.origins,
            copies: r.copies,
          },
        }),
      ),
  });
}

const closed = (b?: Batch) => b?.state === "done" || b?.state === "failed";

/** A batch, kept up to date by server-sent events until it is closed. */
export function useBatch(id: number) {
  const queries = useQueryClient();
  const query = useQuery({
    queryKey: ["batch", id],
    queryFn: () => ask(api.GET("/api/v1/batches/{id}", { params: { path: { id } } })),
  });
  const open = query.data !== undefined && !closed(query.data);
  useEffect(() => {
    if (!open) return;
    const events = new EventSource(`/api/v1/batches/${id}/events`);
    const take = (event: MessageEvent<string>) => {
      const batch = JSON.parse(event.data) as Batch;
      queries.setQueryData(["batch", id], batch);
      if (closed(batch)) {
        events.close();
        void queries.invalidateQueries({ queryKey: ["items", id] });
        void queries.invalidateQueries({ queryKey: ["overview"] });
      }
    };
    events.addEventListener("batch", take);
    events.addEventListener("message", take);
    return () => {
      events.close();
    };
  }, [id, open, queries]);
  return query;
}

/** The items of a batch; match is a pattern with * and ? for their names. */
export function useItems(id: number, filter: { verdict?: string; role?: string; match?: string }, live: boolean) {
  return useInfiniteQuery({
    queryKey: ["items", id, filter],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/batches/{id}/items", {
          params: {
            path: { id },
            query: { verdict: (filter.verdict || undefined) as never, role: (filter.role || undefined) as never, match: filter.match || undefined, cursor: pageParam || undefined, limit: 100 },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: live ? 2_000 : false,
  });
}

export function useCopies(id: number, live: boolean) {
  return useQuery({
    queryKey: ["copies", id, live],
    queryFn: () => ask(api.GET("/api/v1/batches/{id}/copies", { params: { path: { id } } })),
  });
}

export function useOrigins() {
  return useQuery({ queryKey: ["origins"], queryFn: () => ask(api.GET("/api/v1/origins")) });
}

export function useReading() {
  return useMutation({ mutationFn: (body: { text: string; name: string }) => ask(api.POST("/api/v1/manifest-readings", { body })) });
}

export function useAbsent(id: number) {
  return useInfiniteQuery({
    queryKey: ["absent", id],
    queryFn: ({ pageParam }) => ask(api.GET("/api/v1/batches/{id}/absent", { params: { path: { id }, query: { cursor: pageParam || undefined, limit: 100 } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}

export function useItem(batch: number, n: number) {
  return useQuery({
    queryKey: ["item", batch, n],
    queryFn: () => ask(api.GET("/api/v1/batches/{id}/items/{n}", { params: { path: { id: batch, n } } })),
    refetchInterval: (query) => (query.state.data && !query.state.data.settled ? 1_500 : false),
  });
}

export function useKeys(text: string) {
  return useInfiniteQuery({
    queryKey: ["keys", "list", text],
    queryFn: ({ pageParam }) => ask(api.GET("/api/v1/keys", { params: { query: { limit: 200, text: text || undefined, cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (before) => before,
  });
}

/** What waits for a curator. */
export function useWaitingKeys() {
  return useQuery({ queryKey: ["keys", "waiting"], queryFn: () => ask(api.GET("/api/v1/keys", { params: { query: { waiting: true, limit: 50 } } })) });
}

export function useKeyStep(fingerprint: string, step: "withdrawal" | "reconsideration" | "decline") {
  return useKeyringChange((body: { reason: string }) => ask(api.POST(`/api/v1/keys/{fingerprint}/${step}`, { params: { path: { fingerprint } }, body })));
}

export function useReach(fingerprint: string, wanted: boolean) {
  return useQuery({ queryKey: ["key", fingerprint, "reach"], queryFn: () => ask(api.GET("/api/v1/keys/{fingerprint}/reach", { params: { path: { fingerprint } } })), enabled: wanted });
}

export function useKeyUse(fingerprint: string) {
  return useQuery({ queryKey: ["key", fingerprint, "use"], queryFn: () => ask(api.GET("/api/v1/keys/{fingerprint}/use", { params: { path: { fingerprint } } })) });
}

export function useSetPublisher(slug: string) {
  return useKeyringChange((body: { name: string; contact: string; scope: string[] }) => ask(api.PATCH("/api/v1/publishers/{slug}", { params: { path: { slug } }, body })));
}

export function useReassess() {
  return useChange(["reassessment"], (body: { batch?: number; key?: string; publisher?: string; reason: string }) => ask(api.POST("/api/v1/reassessments", { body })));
}

export function useReassessment(id: number) {
  return useQuery({
    queryKey: ["reassessment", id],
    queryFn: () => ask(api.GET("/api/v1/reassessments/{id}", { params: { path: { id } } })),
    refetchInterval: (query) => (query.state.data?.state === "waiting" ? 1_000 : false),
  });
}

export function useReassessments() {
  return useInfiniteQuery({
    queryKey: ["reassessments"],
    queryFn: ({ pageParam }) => ask(api.GET("/api/v1/reassessments", { params: { query: { cursor: pageParam || undefined, limit: 50 } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}

/** What a reassessment changed, beyond what it is shown with. */
export function useRejudged(id: number) {
  return useInfiniteQuery({
    queryKey: ["rejudged", id],
    queryFn: ({ pageParam }) => ask(api.GET("/api/v1/reassessments/{id}/items", { params: { path: { id }, query: { cursor: pageParam || undefined, limit: 100 } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
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

export function usePublishers() {
  return useQuery({ queryKey: ["publishers"], queryFn: () => ask(api.GET("/api/v1/publishers")) });
}

/** Changes something, and asks again for what that touches. */
function useChange<I, O>(touches: string[], change: (input: I) => Promise<O>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: () => Promise.all(touches.map((name) => queries.invalidateQueries({ queryKey: [name] }))),
  });
}

function useKeyringChange<I, O>(change: (input: I) => Promise<O>) {
  return useChange(["keys", "key", "publishers", "overview"], change);
}

export function useLookUp() {
  return useMutation({ mutationFn: (body: { query: string }) => ask(api.POST("/api/v1/key-look-ups", { body })) });
}

export function useImportFound() {
  return useKeyringChange((body: { query: string; fingerprint: string }) => ask(api.POST("/api/v1/key-look-ups/imports", { body })));
}

export function useRefreshKeys() {
  return useKeyringChange((body: { fingerprints?: string[] }) => ask(api.POST("/api/v1/key-refreshes", { body })));
}

/** Puts what several files hold together. */
async function together(reading: Promise<Import>[]): Promise<Import> {
  const all = await Promise.all(reading);
  return { keys: all.flatMap((i) => i.keys), notes: all.flatMap((i) => i.notes) };
}

export function usePreviewImport() {
  return useMutation({ mutationFn: (parts: { data: string }[]) => together(parts.map(({ data }) => ask(api.POST("/api/v1/key-readings", { body: { data } })))) });
}

export function useImportKeys() {
  return useKeyringChange((parts: { data: string; source: string; publisher?: string }[]) => together(parts.map((body) => ask(api.POST("/api/v1/keys", { body })))));
}

export function usePolicies() {
  return useQuery({ queryKey: ["policies"], queryFn: () => ask(api.GET("/api/v1/policies")) });
}

export function usePolicyFields() {
  return useQuery({ queryKey: ["policy-fields"], queryFn: () => ask(api.GET("/api/v1/policy-fields")), staleTime: Infinity });
}

export function useWaivers() {
  return useQuery({ queryKey: ["waivers"], queryFn: () => ask(api.GET("/api/v1/waivers")) });
}

export function useGrantWaiver() {
  return useChange(["waivers"], (body: { ground: string; publisher?: string; pattern?: string; until: string; reason: string }) => ask(api.POST("/api/v1/waivers", { body })));
}

export function useEndWaiver(id: number) {
  return useChange(["waivers"], (body: { reason: string }) => ask(api.POST("/api/v1/waivers/{id}/end", { params: { path: { id } }, body })));
}

export function useSetOwnPolicy(slug: string) {
  return useChange(["policies"], (body: { fields: Partial<Policy>; reason: string }) => ask(api.POST("/api/v1/publishers/{slug}/policies", { params: { path: { slug } }, body })));
}

export function useSetPolicy() {
  return useChange(["policies"], (body: { document: Policy; reason: string }) => ask(api.POST("/api/v1/policies", { body })));
}

export function useInspection() {
  return useMutation({ mutationFn: (data: string) => ask(api.POST("/api/v1/openpgp-readings", { body: { data } })) });
}

export function useAddPublisher() {
  return useKeyringChange((body: { slug: string; name: string; contact: string; scope: string[] }) => ask(api.POST("/api/v1/publishers", { body })));
}

export function useSightKey(fingerprint: string) {
  return useKeyringChange((body: { read: string; channel: string; place: string; note: string }) =>
    ask(api.POST("/api/v1/keys/{fingerprint}/sightings", { params: { path: { fingerprint } }, body })),
  );
}

export function useAdmitKey(fingerprint: string) {
  return useKeyringChange((body: { typed: string; publisher: string; role?: "release" | "anchor"; reason: string }) =>
    ask(api.POST("/api/v1/keys/{fingerprint}/admission", { params: { path: { fingerprint } }, body })),
  );
}

export function useRecords(filter: { name: string; kind: string; verdict: string; batch: string }) {
  return useInfiniteQuery({
    queryKey: ["records", filter],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/records", {
          params: {
            query: {
              name: filter.name || undefined,
              kind: filter.kind || undefined,
              verdict: (filter.verdict || undefined) as never,
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
