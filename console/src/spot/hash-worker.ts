/** Hashes one file at a time for several tasks, in one read of it. */

import {
  createBLAKE2b,
  createBLAKE2s,
  createBLAKE3,
  createCRC32,
  createMD5,
  createRIPEMD160,
  createSHA224,
  createSHA256,
  createSHA3,
  createSHA384,
  createSHA512,
  type IHasher,
} from "hash-wasm";
import { tellEvery, type FromHash, type ToHash } from "./protocol";

const makers: Record<string, () => Promise<IHasher>> = {
  "CRC-32": () => createCRC32(),
  MD5: createMD5,
  "RIPEMD-160": createRIPEMD160,
  "SHA-224": createSHA224,
  "SHA-256": createSHA256,
  "SHA-384": createSHA384,
  "SHA-512": createSHA512,
  "SHA3-224": () => createSHA3(224),
  "SHA3-256": () => createSHA3(256),
  "SHA3-384": () => createSHA3(384),
  "SHA3-512": () => createSHA3(512),
  BLAKE2s: () => createBLAKE2s(256),
  "BLAKE2b-256": () => createBLAKE2b(256),
  "BLAKE2b-384": () => createBLAKE2b(384),
  BLAKE2b: () => createBLAKE2b(512),
  BLAKE3: () => createBLAKE3(256),
};

/** How much is read at once. */
const piece = 1 << 20;
/** From how many bytes on a file is large. */
const large = 64 << 20;
/** After how many milliseconds without a byte a file is given up. */
const stalled = 60_000;
/** How much of a large file is read as a small one is. */
const last = 16 << 20;

/**
 * Reads the beginning of a file into one buffer, again and again. It stops well before the end
 * of the file: where that comes at the wrong moment, such reads never end in Chromium.
 */
async function readInto(file: File, until: number, take: (bytes: Uint8Array) => void) {
  const reader = file.stream().getReader({ mode: "byob" });
  let buffer = new ArrayBuffer(piece);
  for (let read = 0; read < until;) {
    const { done, value } = await reader.read(new Uint8Array(buffer, 0, Math.min(piece, until - read)));
    if (done) throw new Error("it ends early");
    take(value);
    read += value.length;
    buffer = value.buffer;
  }
  await reader.cancel();
}

/** Hashers that were made: each has a memory of its own, and is used for one file after the other. */
const made = new Map<string, IHasher>();

async function hasherOf(algorithm: string, place: number): Promise<IHasher> {
  const name = `${algorithm} ${String(place)}`;
  let hasher = made.get(name);
  if (!hasher) {
    const make = makers[algorithm];
    if (!make) throw new Error(algorithm);
    hasher = await make();
    made.set(name, hasher);
  }
  return hasher;
}

const scope = globalThis as unknown as {
  postMessage: (message: FromHash) => void;
  onmessage: ((event: MessageEvent<ToHash>) => void) | null;
};

async function hash({ file, tasks }: ToHash) {
  const hashers: IHasher[] = [];
  for (const [i, task] of tasks.entries()) {
    const hasher = await hasherOf(task.algorithm, i);
    hasher.init();
    hasher.update(task.before);
    hashers.push(hasher);
  }
  let read = 0;
  let told = performance.now();
  let moved = performance.now();
  const take = (bytes: Uint8Array) => {
    for (const hasher of hashers) hasher.update(bytes);
    read += bytes.length;
    const now = performance.now();
    moved = now;
    if (now - told > tellEvery) {
      told = now;
      scope.postMessage({ read });
    }
  };
  const watch = setInterval(() => {
    if (performance.now() - moved > stalled) scope.postMessage({ failed: "nothing more of it arrives" });
  }, 1000);
  if (file.size > large) await readInto(file, file.size - last, take);
  // Piece by piece, which leaves pieces behind that are collected when there are many.
  while (read < file.size) {
    const bytes = new Uint8Array(await file.slice(read, read + piece).arrayBuffer());
    if (bytes.length === 0) throw new Error("it ends early");
    take(bytes);
  }
  clearInterval(watch);
  const digests = hashers.map((hasher, i) => {
    hasher.update(tasks[i]?.after ?? new Uint8Array());
    return hasher.digest("hex");
  });
  scope.postMessage({ size: read, digests });
}

scope.onmessage = (event) => {
  hash(event.data).catch((error: unknown) => {
    scope.postMessage({ failed: error instanceof Error ? error.message : "it could not be read" });
  });
};
