import { useQuery } from "@tanstack/react-query";

import { useChange } from "./change";
import { api, ask } from "./client";
import type { components } from "./types";

export type Satchel = components["schemas"]["Satchel"];
export type SatchelShown = components["schemas"]["SatchelShown"];
export type Visit = components["schemas"]["Visit"];

export function useSatchels() {
  return useQuery({ queryKey: ["satchels"], queryFn: () => ask(api.GET("/api/v1/satchels")) });
}

export function useSatchel(id: string) {
  return useQuery({
    queryKey: ["satchel", id],
    queryFn: () => ask(api.GET("/api/v1/satchels/{satchel}", { params: { path: { satchel: id } } })),
  });
}

export function usePackSatchel() {
  return useChange(["satchels"], (body: { publishers: string[]; days: number; label?: string }) =>
    ask(api.POST("/api/v1/satchels", { body })),
  );
}

export function useReturnOutcomes() {
  return useChange(["satchels", "satchel", "batches", "overview"], (body: { file: string; key?: string }) =>
    ask(api.POST("/api/v1/satchel-returns", { body })),
  );
}
