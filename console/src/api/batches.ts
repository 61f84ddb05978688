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
      companions: string[];
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
            companions: r.companions,
            corrections: r.corrections,
            origins: r.origins,
            copies: r.copies,
          },
        }),
      ),
  });
}

/** Whether nothing more will happen to a batch: it has its record then. */
export const closed = (b?: Batch) => b?.record !== undefined;

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

/**
 * Tells whatever a batch becomes by server-sent events, until it is closed or the answer is
 * called. A service that cannot be followed any more is told by lost; a line that broke is
 * taken up again by the browser.
 */
function followBatch(id: number, tell: (batch: Batch) => void, lost: () => void = () => undefined): () => void {
  const events = new EventSource(`/api/v1/batches/${id}/events`);
  const take = (event: MessageEvent<string>) => {
    const batch = harmlessAll(JSON.parse(event.data) as Batch);
    if (closed(batch)) events.close();
    tell(batch);
  };
  events.addEventListener("batch", take);
  events.addEventListener("message", take);
  events.addEventListener("problem", lost);
  events.addEventListener("error", () => {
    if (events.readyState === EventSource.CLOSED) lost();
  });
  return () => {
    events.close();
  };
}

/**
 * Waits until a batch is as wanted, or closed, and returns it as it then stands. Where it
 * cannot be followed, it fails with what the service says about that, or tries again a second
 * later.
 */
export function batchUntil(id: number, reached: (batch: Batch) => boolean, signal: AbortSignal): Promise<Batch> {
  return new Promise((resolve, reject) => {
    let end: () => void = () => undefined;
    const settle = (how: () => void) => {
      end();
      signal.removeEventListener("abort", abort);
      how();
    };
    const fail = (why: unknown) => {
      settle(() => {
        reject(why instanceof Error ? why : new Error(String(why)));
      });
    };
    const abort = () => {
      fail(signal.reason);
    };
    const take = (batch: Batch) => {
      if (!reached(batch) && !closed(batch)) return false;
      settle(() => {
        resolve(batch);
      });
      return true;
    };
    const follow = () => {
      if (signal.aborted) return;
      end = followBatch(id, take, () => {
        end();
        ask(api.GET("/api/v1/batches/{id}", { params: { path: { id } }, signal })).then((batch) => {
          if (!take(batch)) setTimeout(follow, 1000);
        }, fail);
      });
    };
    if (signal.aborted) {
      abort();
      return;
    }
    signal.addEventListener("abort", abort);
    follow();
  });
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
    return followBatch(id, (batch) => void takeBatch(queries, batch));
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
