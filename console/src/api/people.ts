import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { ifSeen, useChange } from "./change";
import { api, ask, type Me, type NewToken, type NewUser, type UserChange } from "./client";

export const mayOperate = (me?: Me) => me !== undefined && me.role !== "auditor";
export const mayCurate = (me?: Me) => me?.role === "curator" || me?.role === "administrator";

export const mayAdminister = (me?: Me) => me?.role === "administrator";

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

export function usePeople() {
  return useQuery({ queryKey: ["people"], queryFn: () => ask(api.GET("/api/v1/users")) });
}

export function useAddPerson() {
  return useChange(["people"], (body: NewUser) => ask(api.POST("/api/v1/users", { body })));
}

export function useChangePerson(name: string, seen: string) {
  return useChange(["people", "tokens", "me"], (body: UserChange) =>
    ask(api.PATCH("/api/v1/users/{name}", { params: { path: { name }, header: ifSeen(seen) }, body })),
  );
}

export function useChangePassword() {
  return useMutation({ mutationFn: (body: { old: string; password: string }) => ask(api.POST("/api/v1/me/password", { body })) });
}

export function useTokens() {
  return useQuery({ queryKey: ["tokens"], queryFn: () => ask(api.GET("/api/v1/tokens")) });
}

export function useMakeToken() {
  return useChange(["tokens"], (body: NewToken) => ask(api.POST("/api/v1/tokens", { body })));
}

export function useEndToken(id: number) {
  return useChange(["tokens"], () => ask(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })));
}
