import { useInfiniteQuery, useMutation, useQuery, useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

import { useChange } from "./change";
import { api, ask, type Batch, type ComesFrom, type Correction, type GivenCopy } from "./client";
import { among, verdictValues } from "./words";
import { harmlessAll } from "../parts/text";

export function useOverview() {
  return useQuery({ queryKey: ["overview"], queryFn: () => ask(api.GET("/api/v1/overview")), refetchInterval: 4_000 });
}

export function useBatches(verdict: string) {
  return useInfiniteQuery({
    queryKey: ["batches", verdict],
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/batches", {
          params: { query: { verdict: among(verdictValues, verdict), cursor: pageParam || undefined, limit: 50 } },
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
    mutationFn: (r: {
      depot: string;
      path: string;
      publisher: string;
      label: string;
      requireAll: boolean;
      key: string;
      corrections: Correction[];
      origins: ComesFrom[];
      copies: GivenCopy[];
    }) =>
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

/** Whether nothing more will happen to a batch. */
export const closed = (b?: Batch) => b !== undefined && b.state !== "waiting" && b.state !== "measuring";

export function useCancel(id: number) {
  return useChange(["batch", "overview"], (reason: string) =>
    ask(api.POST("/api/v1/batches/{id}/cancellation", { params: { path: { id } }, body: { reason } })),
  );
}

/** Takes what the service says about a batch that is followed. */
export async function takeBatch(queries: QueryClient, batch: Batch) {
  // An answer under way may be older than the event, and must not replace it.
  await queries.cancelQueries({ queryKey: ["batch", batch.id], exact: true });
  queries.setQueryData(["batch", batch.id], batch);
  if (closed(batch)) void queries.invalidateQueries({ queryKey: ["overview"] });
}

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
      const batch = harmlessAll(JSON.parse(event.data) as Batch);
      if (closed(batch)) events.close();
      void takeBatch(queries, batch);
    };
    events.addEventListener("batch", take);
    events.addEventListener("message", take);
    return () => {
      events.close();
    };
  }, [id, open, queries]);
  return query;
}

export function useCopies(id: number, live: boolean) {
  return useQuery({
    queryKey: ["copies", id, live],
    queryFn: () => ask(api.GET("/api/v1/batches/{id}/copies", { params: { path: { id } } })),
  });
}

export function useAbsent(id: number, live: boolean) {
  return useInfiniteQuery({
    queryKey: ["absent", id, live],
    queryFn: ({ pageParam }) =>
      ask(api.GET("/api/v1/batches/{id}/absent", { params: { path: { id }, query: { cursor: pageParam || undefined, limit: 100 } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}
