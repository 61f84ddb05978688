import { useQuery } from "@tanstack/react-query";

import { ifSeen, useChange } from "./change";
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
  return useChange(["waivers", "reassessments"], (body: NewWaiver) => ask(api.POST("/api/v1/waivers", { body })));
}

export function useEndWaiver(id: number) {
  return useChange(["waivers", "reassessments"], (body: { reason: string }) =>
    ask(api.POST("/api/v1/waivers/{id}/end", { params: { path: { id } }, body })),
  );
}

export function useSetOwnPolicy(slug: string, seen: number) {
  return useChange(["policies", "reassessments"], (body: { fields: Partial<Policy>; reason: string }) =>
    ask(api.POST("/api/v1/publishers/{slug}/policies", { params: { path: { slug }, header: ifSeen(seen) }, body })),
  );
}

export function useSetPolicy(seen: number) {
  return useChange(["policies", "reassessments"], (body: { document: Policy; reason: string }) =>
    ask(api.POST("/api/v1/policies", { params: { header: ifSeen(seen) }, body })),
  );
}
