import { useMutation } from "@tanstack/react-query";

import { useKeyringChange } from "./change";
import { api, ask, type Import } from "./client";

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
  return useMutation({
    mutationFn: (parts: { data: string }[]) => together(parts.map(({ data }) => ask(api.POST("/api/v1/key-readings", { body: { data } })))),
  });
}

export function useImportKeys() {
  return useKeyringChange((parts: { data: string; source: string; publisher?: string }[]) =>
    together(parts.map((body) => ask(api.POST("/api/v1/keys", { body })))),
  );
}
