import { useMutation, useQuery } from "@tanstack/react-query";

import { api, ask } from "./client";
import type { FileReading } from "../spot/protocol";

/** The artifacts of a spot check with their evidence, once it is done. */
export function useSpotItems(batch: number | undefined) {
  return useQuery({
    queryKey: ["spot-items", batch],
    enabled: batch !== undefined,
    queryFn: () =>
      ask(api.GET("/api/v1/batches/{id}/items", { params: { path: { id: batch ?? 0 }, query: { role: "artifact", limit: shownItems } } })),
  });
}

/** The files that were cleared here and have a digest, in hexadecimal. */
export function useReferences(digest: string) {
  return useQuery({
    queryKey: ["references", digest],
    enabled: digest !== "",
    queryFn: () => ask(api.GET("/api/v1/references", { params: { query: { digest } } })),
  });
}

/** How many files of a spot check are shown with their evidence; the batch's page has all. */
export const shownItems = 20;

/**
 * Proves that the check of an item can fail, or that of the first that are cleared;
 * readings are those of files that the browser has.
 */
export function useDrill(batch: number) {
  return useMutation({
    mutationFn: (item?: { n: number; readings?: FileReading[] }) =>
      ask(api.POST("/api/v1/batches/{id}/drills", { params: { path: { id: batch } }, body: item ? { items: [item] } : {} })),
  });
}
