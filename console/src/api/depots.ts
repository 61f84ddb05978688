import { useQuery } from "@tanstack/react-query";

import { api, ask, askRaw } from "./client";

export function useDepots() {
  return useQuery({ queryKey: ["depots"], queryFn: () => ask(api.GET("/api/v1/depots")) });
}

export function useFolder(depot: string, path: string) {
  return useQuery({
    queryKey: ["folder", depot, path],
    queryFn: () => askRaw(api.GET("/api/v1/depots/{depot}/entries", { params: { path: { depot }, query: { path } } })),
    enabled: depot !== "",
  });
}

export function useOrigins() {
  return useQuery({ queryKey: ["origins"], queryFn: () => ask(api.GET("/api/v1/origins")) });
}
