import { useQuery } from "@tanstack/react-query";

import { useChange } from "./change";
import { api, ask, type NewWaiver, type Policy } from "./client";

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
  return useChange(["waivers"], (body: NewWaiver) => ask(api.POST("/api/v1/waivers", { body })));
}

export function useEndWaiver(id: number) {
  return useChange(["waivers"], (body: { reason: string }) =>
    ask(api.POST("/api/v1/waivers/{id}/end", { params: { path: { id } }, body })),
  );
}

export function useSetOwnPolicy(slug: string) {
  return useChange(["policies"], (body: { fields: Partial<Policy>; reason: string }) =>
    ask(api.POST("/api/v1/publishers/{slug}/policies", { params: { path: { slug } }, body })),
  );
}

export function useSetPolicy() {
  return useChange(["policies"], (body: { document: Policy; reason: string }) => ask(api.POST("/api/v1/policies", { body })));
}
