import { useMutation } from "@tanstack/react-query";

import { api, ask } from "./client";

export function useReading() {
  return useMutation({ mutationFn: (body: { text: string; name: string }) => ask(api.POST("/api/v1/manifest-readings", { body })) });
}

export function useInspection() {
  return useMutation({ mutationFn: (data: string) => ask(api.POST("/api/v1/openpgp-readings", { body: { data } })) });
}
