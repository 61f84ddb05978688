import { useMutation } from "@tanstack/react-query";

import { useKeyringChange } from "./change";
import { harmlessAll } from "../parts/text";
import { api, ask, Failure, failureOf, type Import, level, levelled, type Problem } from "./client";
import { readEvents } from "./events";

export function useLookUp() {
  return useMutation({ mutationFn: (body: { query: string }) => ask(api.POST("/api/v1/key-look-ups", { body })) });
}

export function useImportFound() {
  return useKeyringChange((body: { query: string; fingerprint: string }) => ask(api.POST("/api/v1/key-look-ups/imports", { body })));
}

export function useLookUpKnown() {
  return useKeyringChange((body: { fingerprints?: string[] }) => ask(api.POST("/api/v1/key-look-ups/known", { body })));
}

export type Progress = { file: string; done: number; total: number };
export type KeyFile = { source: string; content: Blob };

/** Sends one key file as it is, and follows how far the service has come with it. */
async function load(address: string, file: KeyFile, tell: (p: Progress) => void): Promise<Import> {
  const response = await fetch(`/api/v1/${address}`, {
    method: "POST",
    headers: { "Content-Type": "application/octet-stream", Accept: "text/event-stream", [level.name]: level.value },
    body: file.content,
    credentials: "same-origin",
  });
  levelled(response);
  if (!response.ok || !response.body) throw failureOf(await response.json().catch(() => undefined));
  let result: Import | undefined;
  await readEvents(response.body, (event, data) => {
    if (event === "problem") throw failureOf(JSON.parse(data));
    if (event === "import") result = harmlessAll(JSON.parse(data)) as Import;
    if (event === "progress") tell({ file: file.source, ...(JSON.parse(data) as { done: number; total: number }) });
  });
  if (!result) throw new Failure(broken);
  return result;
}

const broken: Problem = {
  status: 0,
  code: "connection-lost",
  title: "",
  detail: "The connection to the service broke before the answer came.",
  advice: "Look at the keyring: either all of the file was imported, or nothing.",
} as Problem;

/** Loads files one after another, and puts together what they hold. */
async function together(files: KeyFile[], one: (file: KeyFile) => Promise<Import>): Promise<Import> {
  const all: Import = { keys: [], notes: [], packets: [] };
  for (const file of files) {
    const { keys, notes, packets } = await one(file);
    all.keys.push(...keys);
    all.notes.push(...notes);
    for (const p of packets) {
      const same = all.packets.find((a) => a.became === p.became && a.why === p.why);
      if (!same) {
        all.packets.push({ ...p });
        continue;
      }
      same.packets += p.packets;
      same.keys += p.keys;
      same.fingerprints = [...same.fingerprints, ...p.fingerprints];
    }
  }
  return all;
}

export function usePreviewImport(tell: (p: Progress) => void) {
  return useMutation({
    mutationFn: (files: KeyFile[]) => together(files, (file) => load("key-file-readings", file, tell)),
  });
}

export function useImportKeys(tell: (p: Progress) => void) {
  return useKeyringChange(({ files, publisher }: { files: KeyFile[]; publisher: string }) =>
    together(files, (file) => {
      const query = new URLSearchParams({ source: file.source, ...(publisher && { publisher }) });
      return load(`key-files?${query.toString()}`, file, tell);
    }),
  );
}
