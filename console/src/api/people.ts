import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { api, ask, type Me } from "./client";

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
