import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

import { useBatch, closed } from "./batches";
import { useChange } from "./change";
import { api, ask } from "./client";
import type { components } from "./types";

export type Device = components["schemas"]["Device"];
export type DeviceSlot = components["schemas"]["DeviceSlot"];
export type DeviceDetails = components["schemas"]["DeviceDetails"];
export type SlotCheck = components["schemas"]["SlotCheck"];
export type SlotReport = components["schemas"]["SlotReport"];
export type DeviceKind = components["schemas"]["DeviceKind"];
export type KindTrial = components["schemas"]["KindTrial"];
export type KindTried = components["schemas"]["KindTried"];
type NewDeviceCheck = components["schemas"]["NewDeviceCheck"];
type NewAgainst = components["schemas"]["NewAgainst"];

export function useDevices(waiting: boolean) {
  return useQuery({
    queryKey: ["devices"],
    queryFn: () => ask(api.GET("/api/v1/devices")),
    refetchInterval: waiting ? 2_000 : 15_000,
  });
}

export function useDevice(name: string) {
  return useQuery({ queryKey: ["device", name], queryFn: () => ask(api.GET("/api/v1/devices/{name}", { params: { path: { name } } })) });
}

export function useDeviceKinds() {
  return useQuery({ queryKey: ["device-kinds"], queryFn: () => ask(api.GET("/api/v1/device-kinds")) });
}

export function useTryKind() {
  return useChange([], (body: KindTrial) => ask(api.POST("/api/v1/device-kind-trials", { body })));
}

export function useSetKind() {
  return useChange(["device-kinds", "devices", "device"], (body: KindTrial) => ask(api.POST("/api/v1/device-kinds", { body })));
}

export function useRetireKind(name: string) {
  return useChange(["device-kinds"], (reason: string) =>
    ask(api.POST("/api/v1/device-kinds/{name}/retirement", { params: { path: { name } }, body: { reason } })),
  );
}

export function useSetDevice() {
  return useChange(["devices", "device"], ({ name, body }: { name: string; body: DeviceDetails }) =>
    ask(api.PUT("/api/v1/devices/{name}", { params: { path: { name } }, body })),
  );
}

export function useRetireDevice(name: string) {
  return useChange(["devices", "device"], (reason: string) =>
    ask(api.POST("/api/v1/devices/{name}/retirement", { params: { path: { name } }, body: { reason } })),
  );
}

export function useCheckDevices() {
  return useChange(["devices"], ({ key, body }: { key: string; body: NewDeviceCheck }) =>
    ask(api.POST("/api/v1/device-checks", { params: { header: { "Idempotency-Key": key } }, body })),
  );
}

/** Follows a check, and asks for the device again when it has ended. */
export function useFollowedCheck(batch: number, name: string) {
  const queries = useQueryClient();
  const query = useBatch(batch);
  const ended = closed(query.data);
  useEffect(() => {
    if (ended) void queries.invalidateQueries({ queryKey: ["device", name] });
  }, [ended, name, queries]);
  return query;
}

/** Reads what a person gives as the release: a record's number, a file of a depot, or a digest. */
export function againstOf(text: string): NewAgainst | undefined {
  const given = text.trim();
  if (given === "") return undefined;
  const record = /^(?:record[: ]\s*)?([1-9][0-9]{0,14})$/i.exec(given);
  if (record?.[1]) return { record: Number(record[1]) };
  const file = /^([a-z0-9]+(?:-[a-z0-9]+)*):(.+)$/.exec(given);
  if (file?.[1] && file[2]) return { depot: file[1], path: file[2] };
  return { digest: given.replace(/[\s:]/g, "").toLowerCase() };
}
